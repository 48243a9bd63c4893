"""The only code that changes the live site: cutover, rollback, and settling what was interrupted."""

from keenharbor.cutover.cutover import CutoverOptions, CutoverResult, Drift, find_drift, run_cutover
from keenharbor.cutover.journal import exclusive, open_journal, refuse_unsettled
from keenharbor.cutover.merge import CarriedOver, carry_over
from keenharbor.cutover.rollback import RollbackResult, preview_rollback, run_rollback
from keenharbor.cutover.settle import Settled, settle

__all__ = [
    "CarriedOver",
    "CutoverOptions",
    "CutoverResult",
    "Drift",
    "RollbackResult",
    "Settled",
    "carry_over",
    "exclusive",
    "find_drift",
    "open_journal",
    "preview_rollback",
    "refuse_unsettled",
    "run_cutover",
    "run_rollback",
    "settle",
]

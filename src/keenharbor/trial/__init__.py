"""Plans, their steps, and the rehearsal of a plan on a clone."""

from keenharbor.trial.draft import draft_plan
from keenharbor.trial.plan import Plan, read_plan
from keenharbor.trial.result import StepRecord, TrialResult, find_trial, list_trials
from keenharbor.trial.runner import TrialOptions, run_trial

__all__ = [
    "Plan",
    "StepRecord",
    "TrialOptions",
    "TrialResult",
    "draft_plan",
    "find_trial",
    "list_trials",
    "read_plan",
    "run_trial",
]

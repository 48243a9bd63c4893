"""The group ``fleet``, whole: its commands stand in three modules."""

from keenharbor.cli import fleetboard, fleetplan
from keenharbor.cli.fleet import fleet

__all__ = ["fleet", "fleetboard", "fleetplan"]

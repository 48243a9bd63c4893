"""The group ``fleet``, whole: its commands stand in two modules."""

from keenharbor.cli import fleetplan
from keenharbor.cli.fleet import fleet

__all__ = ["fleet", "fleetplan"]

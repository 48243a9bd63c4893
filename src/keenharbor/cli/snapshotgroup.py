"""The group ``snapshot``, and what its commands share."""

from __future__ import annotations

import click

from keenharbor.snapshot import Snapshot


@click.group(name="snapshot", context_settings={"help_option_names": ["-h", "--help"]})
def snapshot() -> None:
    """Save files and database in the store; prove, keep, give back, take away."""


def what_for(item: Snapshot) -> str:
    """Why the snapshot is there, in a few words."""
    by_hand = item.manifest.reason == "by hand"
    said = item.label or (item.manifest.comment if by_hand else None) or item.manifest.reason
    return f"{said} ({item.manifest.reason})" if item.label and not by_hand else str(said)

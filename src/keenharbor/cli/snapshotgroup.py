"""The group ``snapshot``, and what its commands share."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from keenharbor.snapshot import Snapshot

_MODULES = {
    "keenharbor.cli.listing": ("list", "show"),
    "keenharbor.cli.snapshot": ("take", "verify"),
    "keenharbor.cli.keeping": ("keep", "unkeep", "thin", "usage", "diff"),
    "keenharbor.cli.giving": ("drill", "export", "import", "restore"),
}


class _InParts(click.Group):
    """A group whose commands stand in several modules: the one that is called loads its own."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return sorted(name for names in _MODULES.values() for name in names)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        for module, names in _MODULES.items():
            if cmd_name in names:
                importlib.import_module(module)
        return super().get_command(ctx, cmd_name)


@click.group(name="snapshot", cls=_InParts, context_settings={"help_option_names": ["-h", "--help"]})
def snapshot() -> None:
    """Save files and database in the store; prove, keep, give back, take away."""


def what_for(item: Snapshot) -> str:
    """Why the snapshot is there, in a few words."""
    by_hand = item.manifest.reason == "by hand"
    said = item.label or (item.manifest.comment if by_hand else None) or item.manifest.reason
    return f"{said} ({item.manifest.reason})" if item.label and not by_hand else str(said)

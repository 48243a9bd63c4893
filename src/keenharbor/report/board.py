"""The board of a fleet: one HTML page that opens without a network."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from jinja2 import Environment, PackageLoader

from keenharbor.base.text import parse_stamp, plural

_RANK = {"failed": 0, "caution": 1, "good": 2}


def board_as_html(name: str, sites: Sequence[Mapping[str, object]], at: datetime) -> str:
    """The page, of what `keenharbor.fleet.working` says of each site: ``site``, ``groups``, ``verdict``, ``told``, and
    the card as ``result`` where there is one. It says dates, and counts ages when it is opened."""
    environment = Environment(
        loader=PackageLoader("keenharbor.report"), autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters["day"] = _day
    rows = [_row(s) for s in sites]
    rows.sort(key=lambda r: (_RANK[r.state], r.site))
    counts = {state: sum(r.state == state for r in rows) for state in _RANK}
    return environment.get_template("board.html").render(
        name=name, rows=rows, counts=counts, at=f"{at.astimezone():%Y-%m-%d %H:%M}", plural=plural,
        groups=sorted({g for r in rows for g in r.groups}), marks={"failed": "✗", "caution": "!", "good": "✓"},
        versions=sorted({str(r.card["core"]) for r in rows if r.card}),
    )  # fmt: skip


@dataclass(frozen=True)
class Row:
    """A site on the board; without its ``card`` where that could not be had."""

    site: str
    file: str
    groups: Sequence[str]
    state: str
    attention: Sequence[str]
    card: Mapping[str, object] | None = None


def _row(said: Mapping[str, object]) -> Row:
    card, groups = said.get("result"), said["groups"]
    assert isinstance(groups, Sequence)
    if said["verdict"] == "failed" or not isinstance(card, Mapping) or "state" not in card:
        return Row(str(said["site"]), str(said["site_file"]), groups, "failed", [str(said["told"])])
    return Row(str(card["site"]), str(said["site_file"]), groups, str(card["state"]), card["attention"], card)


def _day(text: str | None) -> str:
    """An instant as people read it."""
    return f"{parse_stamp(text).astimezone():%Y-%m-%d %H:%M}" if text else ""

"""The changes that the maintainer of the story makes to the drafted plan, each with its reason."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass

import tomlkit

from keenharbor.site.toml import behind_table, with_value


@dataclass(frozen=True)
class Amendment:
    """A change and why it is made."""

    step: str
    what: str
    why: str


# fmt: off
AMENDMENTS = (
    Amendment("replace-gallery-wall", "a new first step: picture-rail replaces gallery-wall",
        "no release fits core 4.0"),
    Amendment("update-events-calendar", "carry_local_edits = true", "the line about envelopes was added by hand"),
    Amendment("update-seed-search", 'keep_settings = ["seed-search"]', "the update writes its options anew"),
    Amendment("core", "remove_dropped = true", "files of the old core were left over"),
    Amendment("place-notes-block", "a new step: the kind is written 'herb'", "core 4.0 compares kinds to the letter"),
    Amendment("drop-override", "a new step: remove the override of variety.html", "core 4.0 does not give what it asks "
        "for"),
    Amendment("update-loan-desk", "retries = 2", "its migration works in batches and wants to be run again"),
    Amendment("purge", "a new step at the end: purge the page cache", "visitors would go on getting the old pages"),
)
LATE_AMENDMENT = Amendment("rest-overdue-notices", "a new step: overdue-notices is switched off",
    "on loam 3 it takes every loan for overdue, and has no release that does not")
# fmt: on


def amended_late(text: str) -> str:
    """The plan with `LATE_AMENDMENT`, which the late trouble asks for."""
    at = _names(text).index("purge")
    step = _step(LATE_AMENDMENT.step, "extension", extension="overdue-notices", on=False)
    return behind_table(text, ["step", at - 1], step)


def amended(text: str) -> str:
    """The drafted plan with all of `AMENDMENTS`."""
    for step, key, value in (
        ("update-events-calendar", "carry_local_edits", True), ("update-seed-search", "keep_settings", ["seed-search"]),
        ("update-loan-desk", "retries", 2), ("update-loan-desk", "retry_pause", 0.2), ("core", "remove_dropped", True),
    ):  # fmt: skip
        text = with_value(text, ["step", _names(text).index(step)], key, value)
    kinds = "growers-notes.kinds.0"
    override = "themes/marrow/overrides/variety.html"
    for before, made in (
        (_names(text)[0],
            _step("replace-gallery-wall", "package", package="picture-rail", version="1.0", replaces="gallery-wall")),
        (_behind(text, "core"),
            _step("place-notes-block", "setting", database="blocks.placement", key=kinds, value="herb")),
        (_behind(text, "core"), _step("drop-override", "remove", paths=[override])),
        ("check", _step("purge", "purge-cache")),
    ):  # fmt: skip
        at = _names(text).index(before)
        text = behind_table(text, ["step", at - 1] if at else ["plan"], made)
    return text


def _names(text: str) -> list[str]:
    return [str(s["name"]) for s in tomllib.loads(text)["step"]]


def _behind(text: str, name: str) -> str:
    """The step behind that one."""
    names = _names(text)
    return names[names.index(name) + 1]


def _step(name: str, kind: str, **values: object) -> str:
    return "\n[[step]]\n" + tomlkit.dumps({"name": name, "kind": kind, **values})

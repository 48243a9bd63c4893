"""The changes that the maintainer of the story makes to the drafted plan, each with its reason."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import tomlkit


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
# fmt: on


def amended(text: str) -> str:
    """The drafted plan with all of `AMENDMENTS`."""
    plan = tomlkit.parse(text)
    old: Any = plan["step"]
    steps = tomlkit.aot()
    steps.append(
        _step("replace-gallery-wall", "package", package="picture-rail", version="1.0", replaces="gallery-wall")
    )
    for step in old:
        if str(step["name"]) == "check":
            steps.append(_step("purge", "purge-cache"))
        match str(step["name"]):
            case "update-events-calendar":
                step["carry_local_edits"] = True
            case "update-seed-search":
                step["keep_settings"] = ["seed-search"]
            case "update-loan-desk":
                step["retries"] = 2
                step["retry_pause"] = 0.2
            case "core":
                step["remove_dropped"] = True
        steps.append(step)
        if str(step["name"]) == "core":
            steps.append(
                _step(
                    "place-notes-block",
                    "setting",
                    database="blocks.placement",
                    key="growers-notes.kinds.0",
                    value="herb",
                )
            )
            steps.append(_step("drop-override", "remove", paths=["themes/marrow/overrides/variety.html"]))
    plan["step"] = steps
    return tomlkit.dumps(plan)


def _step(name: str, kind: str, **values: object) -> object:
    made = tomlkit.table()
    for key, value in {"name": name, "kind": kind, **values}.items():
        made[key] = value
    return made

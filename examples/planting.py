"""Faults planted on an example site, and how many of them a trial tells and lays to the step that brought them in.

A site's `faults.toml` holds a list of ``[[fault]]``: its ``kind`` in words; one of ``edit`` (file, text, other text),
``sql`` and ``run`` (a shell command); ``told``, the kinds of findings that tell it; ``where``, a part of the place, the
text or a page of it. They stand in the order in which they are planted: what hides others comes last."""

from __future__ import annotations

import json
import sys
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any


@dataclass(frozen=True)
class Fault:
    """A fault: what plants it (a step as TOML without its name), what a trial must tell of it (kinds of findings, and a
    part of the place, text or page), and which parts of the site it takes, so that two of a round do not hide each
    other."""

    kind: str
    step: str
    told: tuple[str, ...]
    where: str
    takes: frozenset[str] = field(default=frozenset())

    def fitting(self, findings: Sequence[Mapping[str, Any]]) -> list[Mapping[str, Any]]:
        """The findings that tell of it."""
        return [
            f for f in findings
            if f["kind"] in self.told and any(self.where in text for text in (f["place"], f["text"], *f["pages"]))
        ]  # fmt: skip


def edit(path: str, old: str, new: str, more: str = "") -> str:
    """A step that replaces a text in a file, which must be there."""
    code = (
        f"import pathlib; p = pathlib.Path({path!r}); t = p.read_bytes(); o, n = {old!r}.encode(), {new!r}.encode(); "
        "assert o in t, 'not there'; p.write_bytes(t.replace(o, n, 1))"
    )
    return (
        f'kind = "command"\ncommand = [{json.dumps(sys.executable)}, "-c", {json.dumps(code)}]\nexpects = '
        f"[{json.dumps(path)}]\n{more}"
    )


def shell(command: str, *expects: str) -> str:
    """A step that runs a command."""
    return f'kind = "command"\ncommand = ["sh", "-c", {json.dumps(command)}]\nexpects = {json.dumps(list(expects))}\n'


def sql(text: str) -> str:
    """A step of SQL."""
    return f'kind = "sql"\nsql = {json.dumps(text)}\n'


def read_faults(file: Path) -> list[Fault]:
    """The faults of a site's file."""
    found = []
    for told in tomllib.loads(file.read_text())["fault"]:
        step = edit(*told["edit"]) if "edit" in told else sql(told["sql"]) if "sql" in told else ""
        step = step or shell(told["run"], *told.get("expects", ()))
        found.append(Fault(told["kind"], step, tuple(told["told"].split()), told.get("where", "")))
    return found


def steps_of(faults: Sequence[Fault]) -> str:
    """Steps that plant them, with one that does nothing before every fourth."""
    steps = []
    for number, fault in enumerate(faults):
        if number % 4 == 0:
            steps.append(f'[[step]]\nname = "harmless-{number}"\nkind = "command"\ncommand = ["true"]\n')
        steps.append(f'[[step]]\nname = "fault-{number}"\n{fault.step}')
    return "".join(steps)


@dataclass
class Scored:
    """What came of a trial of faults: for each its outcome (``right``, ``wrong step``, ``missed``), the findings that
    tell it, what was laid to harmless steps, and how many entries there are to read that are more than notes."""

    outcomes: dict[int, str]
    fitting: dict[int, set[str]]
    false: list[str]
    entries: int


def score(told: Mapping[str, Any], faults: Sequence[Fault]) -> Scored:
    """What the result of a trial (``trial run --go-on --json``) says of the faults. Raises `SystemExit` where they
    could not be planted."""
    if "findings" not in told:
        raise SystemExit(f"the trial broke off: {told}")
    if broken := [s for s in told["steps"] if s["problem"]]:
        raise SystemExit(f"a fault could not be planted: {broken[0]['name']}: {broken[0]['problem']}")
    outcomes, fitting = {}, {}
    for number, fault in enumerate(faults):
        fit = fault.fitting(told["findings"])
        own = {f["id"] for f in fit if f["step"] == f"fault-{number}"}
        outcomes[number] = "right" if own else "wrong step" if fit else "missed"
        fitting[number] = own
    false = [f"{f['kind']} {f['place']}" for f in told["findings"] if str(f["step"]).startswith("harmless")]
    return Scored(outcomes, fitting, false, sum(e["weight"] != "note" for e in told["entries"]))

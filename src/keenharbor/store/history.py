"""The list of a store's documents: what came and went, so that one that is missing, changed or swapped is noticed.

STORE/history.jsonl, only ever appended to (see `keenharbor.base.chain`). Before a document is written a line says that
it is ``coming``, with its sum, and behind it that it ``came``; before one is removed, that it is ``going``. A run that
is killed in between leaves a document whose coming is told of, or none: neither is damage."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from keenharbor.base.chain import Line, append_line, read_chain
from keenharbor.base.text import now, stamp

NAME = "history.jsonl"
LISTED = ("snapshots", "records", "dependents")
"""The kinds of documents that are listed; the others can be made anew."""
_FIELDS = {"at", "what", "kind", "name", "sum_of"}


@dataclass
class _Known:
    """What the list says of one document: the sums that it may have now, and whether it must be there."""

    sums: set[str] = field(default_factory=set)
    must_be: bool = False


class History:
    """The list of the store in ``folder``."""

    def __init__(self, folder: Path) -> None:
        self.file = folder / NAME

    @contextlib.contextmanager
    def writing(self, kind: str, name: str, sum_of: str) -> Iterator[None]:
        """Note that a document is written in the block. Raises OSError before anything is written; that it came, and
        cannot be noted, is no failure: its coming is told of."""
        if kind not in LISTED:
            yield
            return
        self._add("coming", kind, name, sum_of)
        yield
        with contextlib.suppress(OSError):
            self._add("came", kind, name, sum_of)

    def came(self, kind: str, name: str, sum_of: str) -> None:
        """Note a document that was there before the list."""
        self._add("came", kind, name, sum_of)

    def removing(self, kind: str, name: str) -> None:
        """Note that a document is about to be removed."""
        if kind in LISTED:
            self._add("going", kind, name, "")

    def _add(self, what: str, kind: str, name: str, sum_of: str) -> None:
        append_line(self.file, {"at": stamp(now()), "what": what, "kind": kind, "name": name, "sum_of": sum_of})

    @staticmethod
    def _known(lines: Iterable[Line]) -> dict[tuple[str, str], _Known]:
        known: dict[tuple[str, str], _Known] = {}
        for line in lines:
            said = line.said
            found = known.setdefault((said["kind"], said["name"]), _Known())
            if said["what"] == "coming":
                found.sums.add(said["sum_of"])
            elif said["what"] == "came":
                found.sums, found.must_be = {said["sum_of"]}, True
            else:
                found.must_be = False
        return known

    def missing(self, present: Collection[tuple[str, str]]) -> dict[tuple[str, str], set[str]]:
        """Documents that must be there, by kind and name, and are not ``present``; with the sums that they may have."""
        known = self._known(read_chain(self.file, _FIELDS).lines)
        return {k: found.sums for k, found in known.items() if found.must_be and k not in present}

    def check(self, present: dict[tuple[str, str], str]) -> Iterator[str]:
        """What is not as the list says, in words; ``present`` are the documents that are there, by kind and name, with
        their sums. For a store that keeps such a list."""
        chain = read_chain(self.file, _FIELDS)
        yield from (f"{NAME}, line {number}: {problem}" for number, problem in chain.damaged)
        known = self._known(chain.lines)
        for (kind, name), found in sorted(known.items()):
            if found.must_be and (kind, name) not in present:
                yield f"{kind}/{name}.json: it is not there any more, and nobody let it go"
        for (kind, name), sum_of in sorted(present.items()):
            told = known.get((kind, name))
            if told is None and chain.lines:
                yield f"{kind}/{name}.json: the list of what came does not have it"
            elif told is not None and sum_of not in told.sums:
                yield f"{kind}/{name}.json: it is not what was written last"
        if present and not chain.lines and not chain.damaged:
            yield f"{NAME}: the list of what came is missing"

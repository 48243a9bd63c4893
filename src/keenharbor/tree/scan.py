"""Reading a tree: what is there, and what is in it."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import Protocol

from keenharbor.base.memory import no_cycle_search
from keenharbor.host.entries import Entry, Scan
from keenharbor.host.protocol import Batch, Outcome, ReadFiles, Store, WalkRules
from keenharbor.store import object_id

_BATCH_FILES = 128
_BATCH_BYTES = 2 * 1024 * 1024
_BATCH_NAMES = 32 * 1024


def scan_tree(files: ReadFiles, rules: WalkRules) -> Scan:
    """Walk ``files``; see `ReadFiles.begin_walk`."""
    return complete(*files.begin_walk(rules))


def complete(scan: Scan, found: Iterator[Sequence[Entry]]) -> Scan:
    """Let a scan that was begun come to its end."""
    with no_cycle_search():
        deque(found, maxlen=0)
    return scan


class ContentSink(Protocol):
    """Carries out ``work`` on batches, possibly several at once (see `keenharbor.store.store.ObjectWriter`); when it
    returns, ``done`` has had every outcome."""

    def work_on(
        self, batches: Iterable[Batch], size_of: Callable[[Batch], int], work: Callable[[Batch, Store], list[Outcome]],
        done: Callable[[list[Outcome]], None],
    ) -> None: ...  # fmt: skip


class Hashing:
    """A `ContentSink` that keeps nothing: it only gives contents their ids."""

    def work_on(
        self, batches: Iterable[Batch], size_of: Callable[[Batch], int], work: Callable[[Batch, Store], list[Outcome]],
        done: Callable[[list[Outcome]], None],
    ) -> None:  # fmt: skip
        for batch in batches:
            done(work(batch, self.store))

    def store(self, content: bytes, near: str | None) -> str:
        """The id of ``content``."""
        return object_id(content)


def read_content(
    files: ReadFiles, scan: Scan, sink: ContentSink, earlier: Mapping[str, Entry], have: Callable[[str], bool] | None,
    advance: Callable[[int, int], None], *, looked_at_again: bool = False,
    found: Iterator[Sequence[Entry]] | None = None,
) -> int:  # fmt: skip
    """Give each file's content to ``sink`` and note the ids in ``scan``; returns how many files were read.

    A file that ``earlier`` knows and that was not touched since is not read again, as long as every piece is still at
    hand (``have``; where that is None, all are). A file that changes while it is read is read again a few times; one
    that keeps changing is listed as unstable, one that has vanished is dropped, one that may not be read is listed as
    unreadable. ``advance`` gets bytes done and in all (0 while that is not known). With ``looked_at_again`` the caller
    will ask `ReadFiles.still_as_walked` afterwards: then a file is not looked at behind each read as well. With
    ``found`` the scan goes on while files are read."""
    total = done = count = 0
    is_complete = found is None

    def taken(outcomes: list[Outcome]) -> None:
        nonlocal done
        for path, objects, entry, troubled in outcomes:
            scanned = scan.entries[path]
            done += scanned.size
            if objects is not None:
                scan.entries[path] = scanned.with_objects(objects)
            elif entry is None:
                del scan.entries[path]
                if troubled:
                    scan.unreadable.append(path)
            else:
                scan.entries[path] = entry
                if troubled:
                    scan.unstable.append(path)
        advance(done, total if is_complete else 0)

    def unread() -> Iterator[Entry]:
        nonlocal total, done, count, is_complete
        for entries in found if found is not None else [list(scan.entries.values())]:
            for entry in entries:
                total += entry.size
                if entry.kind != "file":
                    continue
                path = entry.path
                known = earlier.get(path)
                if (
                    known is not None
                    and (known is entry or entry.untouched_since(known))
                    and (have is None or all(map(have, known.objects)))
                ):
                    if known is not entry:
                        scan.entries[path] = known if known.facts == entry.facts else entry.with_objects(known.objects)
                    done += entry.size
                    continue
                count += 1
                yield entry
        is_complete = True

    with no_cycle_search():
        sink.work_on(_batches(unread()), _size_of, partial(files.read_batch, looked_at_again, have=have), taken)
    advance(total, total)
    return count


def _batches(entries: Iterable[Entry]) -> Iterator[Batch]:
    """``entries`` in batches of about one size, each of what lies together."""
    batch: list[tuple[object, ...]] = []
    size = names = 0
    for entry in entries:
        batch.append(tuple(entry))
        size += entry.size
        names += len(entry.path)
        if len(batch) >= _BATCH_FILES or size >= _BATCH_BYTES or names >= _BATCH_NAMES:
            yield batch
            batch = []
            size = names = 0
    if batch:
        yield batch


def _size_of(batch: Batch) -> int:
    return sum([Entry._make(fields).size for fields in batch])

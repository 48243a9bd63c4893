"""A tree of files on a far machine, by the helper there."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import io
import itertools
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from typing import Any, BinaryIO

from keenharbor.base.errors import UsageError
from keenharbor.host.entries import Entry, FileKind, Scan
from keenharbor.host.far.asking import Lane, Pending, nonsense
from keenharbor.host.far.contents import KnownContents
from keenharbor.host.far.frames import KNOWN_LENGTH, PART_SIZE, Frame
from keenharbor.host.far.line import Line, Listing
from keenharbor.host.far.trees import folder_digest, parent_of, walk_order
from keenharbor.host.protocol import Batch, Facts, Have, Outcome, Store, WalkRules
from keenharbor.host.writing import staged_name

MOST_PATHS = 5_000_000
"""A tree of more is not believed."""
_LONGEST_NAME = 255
_KINDS: dict[str, FileKind] = {"file": "file", "folder": "folder", "link": "link"}
PIECE = 4 * 1024 * 1024
_FIRST_PART = 256 * 1024
_WORTH_TELLING = 400
"""A known content is told of for as many bytes that may have to come otherwise."""
_MOST_CHANGES_UNHEARD = 256
_KEPT_SECONDS = 2.0
_walk_numbers = itertools.count(1)


def checked_entry(folder: str, told: Any, where: str) -> Entry:
    """An entry as a far side told it, made sure of: a name that climbs or a size that is none is nonsense."""
    try:
        name, kind, mode, mtime_ns, size, target, stamp, uid, gid, same_as, sparse = told
        proper = (
            isinstance(name, str) and 0 < len(name) <= _LONGEST_NAME and "/" not in name and "\0" not in name
            and name not in (".", "..") and kind in _KINDS
            and all(type(n) is int for n in (mode, mtime_ns, size, uid, gid))
            and 0 <= mode <= 0o7777 and 0 <= size < 1 << 60 and abs(mtime_ns) < 1 << 63
            and (target is None or (isinstance(target, str) and len(target) <= 4096))
            and isinstance(stamp, str) and len(stamp) <= 200
            and (same_as is None or (isinstance(same_as, str) and is_inside(same_as))) and type(sparse) is bool
        )  # fmt: skip
    except (TypeError, ValueError):
        proper = False
    if not proper:
        raise nonsense(where)
    path = f"{folder}/{name}" if folder else name
    return Entry(path, _KINDS[kind], mode, mtime_ns, size, "other", target, (), stamp, uid, gid, same_as, sparse)


def is_inside(path: str) -> bool:
    """Whether a path is one within a tree."""
    return 0 < len(path) <= 8192 and "\0" not in path and not {"", ".", ".."} & set(path.split("/"))


def facts_of(told: Any, where: str) -> Facts | None:
    """What a path is, as a far side told it."""
    match told:
        case None:
            return None
        case [kind, int(mode), int(size), int(mtime_ns), str(stamp), bool(linked), str(disk)]:
            return Facts(_KINDS.get(kind), mode, size, mtime_ns, stamp, linked, disk)
    raise nonsense(where)


def _texts(told: Any, where: str) -> list[str]:
    if not isinstance(told, list) or not all(isinstance(t, str) for t in told):
        raise nonsense(where)
    return told


class FarReading:
    """A tree to be read (see `keenharbor.host.protocol.ReadFiles`)."""

    forks = False

    def __init__(self, line: Line, place: str, known: KnownContents | None, *, leads_out: bool = False) -> None:
        self._line, self._place, self._leads_out = line, place, leads_out
        self._known = known or KnownContents(None)
        self._walk: tuple[Scan, int, dict[str, Entry]] | None = None

    @property
    def place(self) -> str:
        return self._place

    @property
    def _told(self) -> str:
        return f"{self._line.door.told}:{self._place}"

    # -- the whole of it ---------------------------------------------------------------------------------------

    def begin_walk(self, rules: WalkRules) -> tuple[Scan, Iterator[Sequence[Entry]]]:
        """Folders that are as they were ``seen`` are told by a digest: that is all that goes over the line of them."""
        lane = self._line.repeated(lambda: self._line.asking().lane())
        seen: dict[str, list[Entry]] = {}
        for entry in (rules.seen or {}).values():
            seen.setdefault(parent_of(entry.path), []).append(entry)
        known = sorted((folder_digest(folder, entries), folder) for folder, entries in seen.items())
        number = next(_walk_numbers)
        pending = lane.begin(
            "walk", self._place, number, rules.areas.patterns, list(rules.leave_out), list(rules.empty), rules.largest,
            body=b"".join(digest for digest, _ in known),
        )  # fmt: skip
        lane.end()  # behind the walk
        parts = pending.parts()
        try:
            first = next(parts, Frame(None))
        except UsageError:
            raise UsageError(
                "the site's folder is not there", where=self._told, advice="correct 'root' in the site file"
            ) from None
        match first.values:
            case [str(root), int(began)]:
                scan = Scan(root=root, began_ns=began)
            case _:
                raise nonsense(self._told)
        return scan, self._walked(rules, scan, pending, parts, [seen[folder] for _, folder in known], number)

    def _walked(
        self, rules: WalkRules, scan: Scan, pending: Pending, parts: Iterator[Any], known: list[list[Entry]],
        number: int,
    ) -> Iterator[Sequence[Entry]]:  # fmt: skip
        area_of = rules.areas.area_of
        for part in parts:
            match part.values:
                case [list(same), list(folders)]:
                    pass
                case _:
                    raise nonsense(self._told)
            for at in same:
                if type(at) is not int or not 0 <= at < len(known):
                    raise nonsense(self._told)
                for entry in known[at]:
                    scan.entries[entry.path] = entry
                yield known[at]
            for told in folders:
                match told:
                    case [str(folder), list(entries)] if not folder or is_inside(folder):
                        here = [checked_entry(folder, e, self._told) for e in entries]
                    case _:
                        raise nonsense(self._told)
                here = [e._replace(area=area_of(e.path)) for e in here]
                for entry in here:
                    scan.entries[entry.path] = entry
                if len(scan.entries) > MOST_PATHS:
                    raise nonsense(self._told)
                yield here
        end = pending.result
        if not isinstance(end, dict):
            raise nonsense(self._told)
        for name in ("left_out", "too_large", "unreadable"):
            getattr(scan, name).extend(_texts(end.get(name), self._told))
        _refuse_strays(scan, self._told)
        ordered = walk_order(scan.entries)
        scan.entries.clear()
        scan.entries.update(ordered)
        self._walk = scan, number, ordered

    def still_as_walked(self, scan: Scan) -> bool:
        if self._walk is None or self._walk[0] is not scan:
            return False
        _, number, walked = self._walk
        changed: list[tuple[str, Entry | None]] = []
        for path, entry in walked.items():
            now = scan.entries.get(path)
            if now is not entry and (now is None or now.with_objects(()) != entry.with_objects(())):
                changed.append((path, now))
        try:
            return self._line.lane().ask("still", number, changed) is True
        except KeyError:
            return False

    def read_batch(
        self, looked_at_again: bool, batch: Batch, store: Store, *, have: Have | None = None
    ) -> list[Outcome]:
        return self._line.repeated(lambda: self._read_batch(looked_at_again, batch, store, have))

    def _read_batch(self, looked_at_again: bool, batch: Batch, store: Store, have: Have | None) -> list[Outcome]:
        entries = {e.path: e for e in map(Entry._make, batch)}
        sizes: list[int] = []
        for entry in entries.values():
            sizes.extend([PIECE] * (1 if entry.size >= PIECE else 0))
            sizes.append(entry.size % PIECE if entry.size > PIECE else entry.size)
        bytes_of_it = sum(e.size for e in entries.values())
        known = self._known.of_sizes(sizes, have, max(64, bytes_of_it // _WORTH_TELLING))
        ids: dict[int, str] = {}
        with self._line.own_lane() as lane:
            told = b"".join(dict.fromkeys(digest[:KNOWN_LENGTH] for digest in known))
            pending = lane.begin("read", self._place, looked_at_again, list(entries.values()), body=told)
            for part in pending.parts():
                self._take(part.values, memoryview(part.body), known, store, ids)
        return [self._outcome(outcome, entries, ids) for outcome in _listed(pending.result, self._told)]

    def _take(self, told: Any, data: memoryview, known: dict[bytes, str], store: Store, ids: dict[int, str]) -> None:
        for piece in _listed(told, self._told):
            match piece:
                case [int(number), int(size), None] if 0 <= size <= min(len(data), PIECE):
                    content = bytes(data[:size])
                    data = data[size:]
                    ids[number] = store(content, None)
                    self._known.note(hashlib.sha256(content).digest(), size, ids[number])
                case [int(number), int(), str(text)]:
                    identity = known.get(base64.b64decode(text.encode("ascii", "replace")))
                    if identity is None:
                        raise nonsense(self._told)
                    ids[number] = identity
                case _:
                    raise nonsense(self._told)
        if data:
            raise nonsense(self._told)

    def _outcome(self, told: Any, entries: dict[str, Entry], ids: dict[int, str]) -> Outcome:
        def real(numbers: Any) -> tuple[str, ...]:
            try:
                return tuple([ids[int(n)] for n in numbers])
            except (TypeError, ValueError, KeyError):
                raise nonsense(self._told) from None

        match told:
            case [str(path), numbers, None, bool(troubled)] if path in entries:
                return path, None if numbers is None else real(numbers), None, troubled
            case [str(path), None, list(fields), bool(troubled)] if path in entries and len(fields) == 13:
                plain = [path.rpartition("/")[2], *fields[1:5], fields[6], *fields[8:]]
                found = checked_entry(parent_of(path), plain, self._told)
                return path, None, found._replace(area=entries[path].area, objects=real(fields[7])), troubled
        raise nonsense(self._told)

    # -- single paths ------------------------------------------------------------------------------------------

    def _ask(self, what: str, *given: Any, **options: Any) -> Any:
        return self._line.repeated(
            lambda: self._line.lane().ask("tree", self._place, self._leads_out, what, list(given), options)
        )

    def _ahead(self, folder: str) -> Listing | None:
        """What a folder holds, asked at once where one thing of it is asked: who reads what a site is made of asks for
        the next soon. It is forgotten with the first change, and soon anyhow."""
        key = (self._place, self._leads_out, folder)
        kept = self._line.listings.get(key)
        if kept is not None and kept[1] == self._line.changed and time.monotonic() - kept[0] < _KEPT_SECONDS:
            return kept[2]
        changed = self._line.changed
        pending = self._line.repeated(lambda: self._asked_listing(folder))
        if pending.result is None:
            return None
        facts: dict[str, Facts | None] = {}
        contents: dict[str, bytes] = {}
        body = pending.body
        for told in _listed(pending.result, self._told):
            match told:
                case [str(name), about, None | int() as size]:
                    facts[name] = facts_of(about, self._told)
                    if size is not None:
                        contents[name], body = body[:size], body[size:]
                case _:
                    raise nonsense(self._told)
        self._line.listings[key] = (time.monotonic(), changed, (facts, contents))
        return facts, contents

    def _asked_listing(self, folder: str) -> Pending:
        pending = self._line.lane().begin("listing", self._place, self._leads_out, folder)
        try:
            pending.result = pending.answer()
        except OSError:
            pending.result = None
        return pending

    def look(self, path: str, *, through_links: bool = False) -> Facts | None:
        if through_links and path and "/../" not in f"/{path}/":
            listing = self._ahead(parent_of(path))
            if listing is not None:
                return listing[0].get(path.rpartition("/")[2])
        return facts_of(self._ask("look", path, through_links=through_links), self._told)

    def names(self, path: str, *, through_links: bool = False) -> list[str]:
        found = _texts(self._ask("names", path, through_links=through_links), self._told)
        if any("/" in name or name in ("", ".", "..") for name in found):
            raise nonsense(self._told)
        return found

    def target(self, path: str) -> str:
        return str(self._ask("target", path))

    def open(self, path: str, *, through_links: bool = False) -> BinaryIO:
        if through_links and (listing := self._ahead(parent_of(path))) is not None:
            content = listing[1].get(path.rpartition("/")[2])
            if content is not None:
                return io.BytesIO(content)
        first = self._part(path, through_links, 0, _FIRST_PART)
        if len(first[1]) >= first[0]:
            return io.BytesIO(first[1])
        return io.BufferedReader(_FarFile(lambda at, count: self._part(path, through_links, at, count), *first))

    def _part(self, path: str, through_links: bool, at: int, count: int) -> tuple[int, bytes]:
        def asked() -> tuple[int, bytes]:
            pending = self._line.lane().begin(
                "file", self._place, self._leads_out, path, through_links, at, min(count, PART_SIZE)
            )
            size = pending.answer()
            if type(size) is not int or len(pending.body) > PART_SIZE:
                raise nonsense(self._told)
            return size, pending.body

        return self._line.repeated(asked)

    def leads_to(self, path: str) -> str:
        found = str(self._ask("leads_to", path))
        if not is_inside(found):
            raise nonsense(self._told)
        return found

    def may_write(self, path: str) -> bool:
        return self._ask("may_write", path) is True

    def free_bytes(self) -> int:
        return int(self._ask("free_bytes"))


def _listed(told: Any, where: str) -> list[Any]:
    if not isinstance(told, list):
        raise nonsense(where)
    return told


def _refuse_strays(scan: Scan, where: str) -> None:
    """A path whose folder was not told of could only be made through something else."""
    folders = {path for path, entry in scan.entries.items() if entry.kind == "folder"} | {""}
    if any(parent_of(path) not in folders for path in scan.entries):
        raise nonsense(where)


class _FarFile(io.RawIOBase):
    """A large file, asked for a part at a time."""

    def __init__(self, part: Callable[[int, int], tuple[int, bytes]], size: int, first: bytes) -> None:
        self._part, self._size, self._at = part, size, 0
        self._have, self._from = first, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._size}[whence]
        self._at = max(0, base + offset)
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: Any) -> int:
        if self._at >= self._size:
            return 0
        if not self._from <= self._at < self._from + len(self._have):
            self._from, (_, self._have) = self._at, self._part(self._at, PART_SIZE)
            if not self._have:
                return 0
        begin = self._at - self._from
        piece = self._have[begin : begin + len(buffer)]
        buffer[: len(piece)] = piece
        self._at += len(piece)
        return len(piece)


class FarChanging:
    """Changes within a block (see `keenharbor.host.protocol.Changes`). They are sent without waiting for each: an error
    of one is raised by a later one, at the latest at the block's end; what came behind it was not done."""

    def __init__(self, lane: Lane, told: str) -> None:
        self._lane, self._told = lane, told
        self._unheard: deque[Pending] = deque()

    def _send(self, what: str, *given: Any, body: bytes = b"") -> Pending:
        pending = self._lane.begin(what, *given, body=body)
        self._unheard.append(pending)
        while len(self._unheard) > _MOST_CHANGES_UNHEARD:
            self._unheard.popleft().answer()
        return pending

    def _asked(self, what: str, *given: Any) -> Any:
        last = self._send(what, *given)
        self._unheard.pop()
        self.hear()
        return last.answer()

    def hear(self) -> None:
        """Wait for all that was sent. Raises what hindered one."""
        while self._unheard:
            self._unheard.popleft().answer()

    def _write(self, what: str, entry: Entry, staged: str | None, read: Callable[[str], bytes]) -> None:
        contents = [read(identity) for identity in entry.objects] if entry.size <= PART_SIZE else None
        if contents is not None:
            self._send(what, entry, staged, [len(c) for c in contents], body=b"".join(contents))
            return
        sizes = [PIECE] * (len(entry.objects) - 1)
        sizes.append(entry.size - sum(sizes))
        first = read(entry.objects[0])
        if len(first) != sizes[0]:  # pieces of another size than ours: all of them have to be known before
            whole = [first, *(read(identity) for identity in entry.objects[1:])]
            self._send(what, entry, staged, [len(c) for c in whole])
            for content in whole:
                self._pieces(content)
            return
        self._send(what, entry, staged, sizes)
        self._pieces(first)
        for identity in entry.objects[1:]:
            self._pieces(read(identity))

    def _pieces(self, content: bytes) -> None:
        for at in range(0, len(content), PART_SIZE):
            self._lane.tell("piece", body=content[at : at + PART_SIZE])

    def stage(self, entry: Entry, read: Callable[[str], bytes]) -> str:
        above, _, name = entry.path.rpartition("/")
        staged = staged_name(name)
        self._write("stage", entry, staged, read)
        return f"{above}/{staged}" if above else staged

    def write_there(self, entry: Entry, read: Callable[[str], bytes]) -> None:
        self._write("write_there", entry, None, read)

    def put(self, staged: str, path: str) -> None:
        self._send("put", staged, path)

    def make_folder(self, path: str) -> None:
        self._send("make_folder", path)

    def make_link(self, entry: Entry) -> None:
        self._send("make_link", entry)

    def same_file(self, entry: Entry) -> bool:
        return self._asked("same_file", entry) is True

    def set_facts(self, entry: Entry, *, owner: bool = True, times: bool = True) -> None:
        self._send("set_facts", entry, owner, times)

    def remove(self, path: str) -> None:
        self._send("remove", path)

    def remove_folder(self, path: str) -> bool:
        return self._asked("remove_folder", path) is True


class FarFiles(FarReading):
    """A tree that can be changed as well (see `keenharbor.host.protocol.Files`)."""

    @contextlib.contextmanager
    def changing(self) -> Iterator[FarChanging]:
        with self._line.own_lane() as lane:
            begun = lane.begin("change", self._place)
            changes = FarChanging(lane, self._told)
            try:
                yield changes
            except BaseException:
                with contextlib.suppress(Exception):
                    lane.ask("changed")
                    begun.answer()
                raise
            changes.hear()
            lane.ask("changed")
            begun.answer()

    def write(self, path: str, content: bytes, mode: int | None = None, *, durable: bool = False) -> None:
        with self._line.own_lane() as lane:
            lane.ask_with("write", self._place, path, mode, durable, content=content)

    def overwrite(self, path: str, content: bytes, mtime_ns: int) -> None:
        with self._line.own_lane() as lane:
            lane.ask_with("overwrite", self._place, path, mtime_ns, content=content)

    def remove(self, path: str) -> None:
        self._change("remove", path)

    def prune(self, path: str) -> None:
        self._change("prune", path)

    def clear(self, path: str, *, keep: bool = True) -> None:
        self._change("clear", path, keep=keep)

    def make_root(self) -> bool:
        return self._change("make_root") is True

    def relink(self, path: str, target: str) -> None:
        self._change("relink", path, target)

    def leftovers(self) -> list[str]:
        return [p for p in _texts(self._ask("leftovers"), self._told) if is_inside(p)]

    def sync(self) -> None:
        self._change("sync")

    def _change(self, what: str, *given: Any, **options: Any) -> Any:
        return self._line.lane().ask("tree", self._place, False, what, list(given), options)

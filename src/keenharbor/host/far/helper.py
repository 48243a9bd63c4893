"""The tool's helper on a far machine: it is sent to the standard input of a Python there, leaves nothing on the disk,
and ends with the line.

What is asked comes in lanes: what one lane brings is done in its order, by a thread of its own; lanes go side by side.
An answer may come in parts; of these only so many are sent before the one who asked has taken some. When the line has
ended, or nothing has come for `SILENCE_SECONDS`, the programs that it runs are ended, and what it holds is let go: so
nothing goes on that nobody watches. Python 3.9 and its own library have to do."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import os
import platform
import queue
import socket
import sqlite3
import sys
import threading
import time
from pathlib import Path
from typing import Any, BinaryIO, Optional, Sequence

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.host.areas import AreaRules
from keenharbor.host.entries import Entry, Scan
from keenharbor.host.environment import EnvironmentsHere
from keenharbor.host.far.frames import (
    KNOWN_LENGTH,
    MOST_ON_THE_WAY,
    PART_SIZE,
    Frame,
    FrameError,
    gets_smaller,
    packed,
    read_frame,
)
from keenharbor.host.far.statements import Statements
from keenharbor.host.far.trees import folder_digest, folders_in, plain_entry, walk_order
from keenharbor.host.lease import HeldError, held
from keenharbor.host.programs import ProgramError, ask_program, clean_environment, find_program, run_program, stop_all
from keenharbor.host.protocol import Facts, WalkRules
from keenharbor.host.reading import ReadTree
from keenharbor.host.writing import Changing, FileTree

SILENCE_SECONDS = 90.0
_MOST_LISTED = 500
_SMALL, _MOST_SMALL = 4096, 24 * 1024
_ASKED_PROGRAMS = ("tar", "find", "sha256sum", "zstd", "gzip", "mysql", "psql", "sqlite3", "php", "git")
_TREE = frozenset((
    "look", "names", "target", "leads_to", "may_write", "free_bytes", "remove", "prune", "clear", "make_root", "relink",
    "leftovers", "sync",
))  # fmt: skip
_ENVIRONMENTS = frozenset(("around", "inside", "make", "rename_inside", "put_in_place", "kept", "remove"))


class _Given(Exception):
    """The one who asked does not want the rest."""


class Call:
    """One thing that was asked."""

    def __init__(self, helper: Helper, number: int) -> None:
        self._helper = helper
        self.number = number
        self._room = threading.Semaphore(MOST_ON_THE_WAY)
        self.dropped = False

    def part(self, values: Any, body: bytes = b"", level: int = 6) -> None:
        """Send a part of the answer, once there is room for it."""
        self._room.acquire()
        if self.dropped:
            raise _Given
        self._helper.send([self.number, "part", values], body, level)

    def taken(self, count: int) -> None:
        """The one who asked has taken so many parts."""
        for _ in range(min(count, MOST_ON_THE_WAY)):
            self._room.release()

    def drop(self) -> None:
        self.dropped = True
        self._room.release()


class Lane:
    """What is to be done in order."""

    def __init__(self, helper: Helper, number: int) -> None:
        self.waiting: queue.Queue[Optional[Frame]] = queue.Queue(256)
        self._helper = helper
        self._number = number
        threading.Thread(target=self._work, name=f"lane {number}", daemon=True).start()

    def next(self) -> Frame:
        """The next message of this lane, which belongs to what is being done. Raises OSError when the lane ends."""
        frame = self.waiting.get()
        if frame is None:
            raise OSError(5, "the line ended")
        return frame

    def _work(self) -> None:
        while True:
            frame = self.waiting.get()
            if frame is None:
                return
            _, number, what, given = frame.values
            self._helper.carry_out(self, number, str(what), given, frame.body)


class Helper:
    """What is asked over one line, and what is held for it."""

    def __init__(self, read: BinaryIO, write: BinaryIO) -> None:
        self._read = read
        self._write = write
        self._writing = threading.Lock()
        self._lanes: dict[int, Lane] = {}
        self._calls: dict[int, Call] = {}
        self._heard = time.monotonic()
        self._walks: dict[int, tuple[ReadTree, Scan]] = {}
        self._leases: dict[int, contextlib.ExitStack] = {}
        self._lease_files: dict[int, int] = {}
        self._lease_folders: dict[int, str] = {}
        self._statements = Statements()
        self._environments = EnvironmentsHere()

    # -- the line ----------------------------------------------------------------------------------------------

    def send(self, values: Any, body: bytes = b"", level: int = 6) -> None:
        data = packed(Frame(values, body), level)
        with self._writing:
            self._write.write(data)
            self._write.flush()

    def serve(self) -> None:
        """Do what comes, until the line ends."""
        threading.Thread(target=self._watch, name="watch", daemon=True).start()
        while True:
            frame = read_frame(self._read.read)
            if frame is None:
                return
            self._heard = time.monotonic()
            lane, number, what = frame.values[:3]
            if what == "alive":
                self.send([0, "alive", None])
                continue
            if what in ("taken", "drop"):
                call = self._calls.get(number)
                if call is not None:
                    call.taken(int(frame.values[3])) if what == "taken" else call.drop()
                continue
            if what == "end":
                ended = self._lanes.pop(lane, None)
                if ended is not None:
                    ended.waiting.put(None)
                continue
            if lane not in self._lanes:
                self._lanes[lane] = Lane(self, lane)
            self._lanes[lane].waiting.put(frame)

    def _watch(self) -> None:
        while time.monotonic() - self._heard < SILENCE_SECONDS:
            time.sleep(5)
        self.end()

    def end(self) -> None:
        """The line is gone: nothing goes on."""
        with contextlib.suppress(BaseException):
            stop_all()
        for number in [*self._leases]:
            with contextlib.suppress(BaseException):
                self._let_go(number)
        os._exit(0)

    def carry_out(self, lane: Lane, number: int, what: str, given: Sequence[Any], body: bytes) -> None:
        call = self._calls[number] = Call(self, number)
        try:
            asked = getattr(self, f"do_{what}", None) or getattr(self._statements, f"do_{what}")
            answer = asked(call, lane, body, *given)
            values, data = answer if isinstance(answer, tuple) else (answer, b"")
            self.send([number, "done", values], data)
        except _Given:
            pass
        except BrokenPipeError:
            return
        except Exception as error:
            with contextlib.suppress(BrokenPipeError):
                self.send([number, "error", told_error(error)])
        finally:
            self._calls.pop(number, None)

    # -- the machine -------------------------------------------------------------------------------------------

    def do_hello(self, call: Call, lane: Lane, body: bytes) -> dict[str, Any]:
        facts = os.uname()
        return {
            "python": platform.python_version(),
            "system": f"{facts.sysname} {facts.release} {facts.machine}",
            "node": facts.nodename,
            "user": _user_name(),
            "uid": os.geteuid(),
            "home": os.path.expanduser("~"),
            "programs": {name: place for name in _ASKED_PROGRAMS if (place := find_program(name)) is not None},
            "cores": os.cpu_count() or 1,
            "time": time.time(),
            "prefix": sys.prefix,
        }

    def do_echo(self, call: Call, lane: Lane, body: bytes, back: int = 0) -> tuple[int, bytes]:
        return len(body), os.urandom(back)

    def do_answers(self, call: Call, lane: Lane, body: bytes, host: str, port: int, place: str) -> bool:
        """Whether something listens at a port, or at the socket ``place``, for this user."""
        try:
            if place:
                with socket.socket(socket.AF_UNIX) as probe:
                    probe.settimeout(5)
                    probe.connect(place)
            else:
                socket.create_connection((host, port), 5).close()
        except OSError:
            return False
        return True

    # -- reading trees -----------------------------------------------------------------------------------------

    def do_walk(
        self, call: Call, lane: Lane, body: bytes, place: str, number: int, areas: dict[str, list[str]],
        leave_out: list[str], empty: list[str], largest: Optional[int],
    ) -> dict[str, Any]:  # fmt: skip
        """A walk. ``body`` holds the digests of the folders that are known; of these only their place in it is told."""
        tree = ReadTree(place)
        scan, found = tree.begin_walk(WalkRules(AreaRules(areas), leave_out, empty, largest))
        known = {body[at : at + 12]: at // 12 for at in range(0, len(body), 12)}
        same: list[int] = []
        waiting: list[Any] = []
        size = 0

        def tell() -> None:
            nonlocal size
            call.part([same[:], waiting[:]])
            same.clear()
            waiting.clear()
            size = 0

        call.part([scan.root, scan.began_ns])
        for folder, entries in folders_in(found):
            digest = folder_digest(folder, entries)
            at = known.get(digest)
            if at is not None:
                same.append(at)
                size += 6
            else:
                listed = [plain_entry(e) for e in entries]
                for begin in range(0, len(listed), 2000):
                    waiting.append([folder, listed[begin : begin + 2000]])
                    size += 100 * len(waiting[-1][1])
                    if size > PART_SIZE // 4:
                        tell()
            if size > PART_SIZE // 4:
                tell()
        tell()
        scan.entries = walk_order(scan.entries)
        self._walks = {number: (tree, scan)}
        return {
            "left_out": scan.left_out, "too_large": scan.too_large, "unreadable": scan.unreadable,
            "count": len(scan.entries),
        }  # fmt: skip

    def do_still(self, call: Call, lane: Lane, body: bytes, number: int, changed: list[Any]) -> bool:
        walk = self._walks.get(number)
        if walk is None:
            return False
        tree, scan = walk
        for path, entry in changed:
            if entry is None:
                scan.entries.pop(path, None)
            elif path in scan.entries:
                scan.entries[path] = Entry.from_json(entry)
        return tree.still_as_walked(scan)

    def do_read(
        self, call: Call, lane: Lane, body: bytes, place: str, looked_at_again: bool, batch: list[Any]
    ) -> list[Any]:
        """Contents of files. ``body`` holds the beginnings of digests of those that are known: of these only the digest
        is told. Those that get smaller travel apart from those that do not."""
        known = {body[at : at + KNOWN_LENGTH] for at in range(0, len(body), KNOWN_LENGTH)}
        count = 0
        told: list[list[Any]] = [[], []]
        data: list[list[bytes]] = [[], []]
        sizes = [0, 0]

        def tell(kind: int) -> None:
            if told[kind]:
                call.part(told[kind][:], b"".join(data[kind]), 6 if kind else 0)
                told[kind].clear()
                data[kind].clear()
                sizes[kind] = 0

        def store(content: bytes, near: Optional[str]) -> str:
            nonlocal count
            count += 1
            digest = hashlib.sha256(content).digest()
            if digest[:KNOWN_LENGTH] in known:
                kind = 1
                told[kind].append([count - 1, len(content), base64.b64encode(digest).decode()])
            else:
                kind = int(gets_smaller(content))
                told[kind].append([count - 1, len(content), None])
                data[kind].append(content)
                sizes[kind] += len(content)
            if sizes[kind] >= PART_SIZE or len(told[kind]) >= 500:
                tell(kind)
            return str(count - 1)

        tree = ReadTree(place)
        outcomes = []
        for fields in batch:
            entry = Entry.from_json(fields)
            for path, objects, found, troubled in tree.read_batch(looked_at_again, [tuple(entry)], store):
                outcomes.append([path, objects, None if found is None else list(found), troubled])
        tell(0)
        tell(1)
        return outcomes

    def do_tree(
        self, call: Call, lane: Lane, body: bytes, place: str, leads_out: bool, what: str, given: list[Any],
        options: dict[str, Any],
    ) -> Any:  # fmt: skip
        if what not in _TREE:
            raise UsageError("this is not asked of a tree")
        tree: Any = ReadTree(place, leads_out=leads_out) if leads_out else FileTree(place)
        found = getattr(tree, what)(*given, **options)
        return _facts(found) if what == "look" else found

    def do_listing(self, call: Call, lane: Lane, body: bytes, place: str, leads_out: bool, path: str) -> Any:
        """The names in a folder with what each is, links followed, and what is in small files: one question in place
        of many. None for a folder of very many."""
        tree = ReadTree(place, leads_out=leads_out)
        names = tree.names(path, through_links=True)
        if len(names) > _MOST_LISTED:
            return None
        found: list[Any] = []
        data: list[bytes] = []
        left = _MOST_SMALL
        for name in names:
            below = f"{path}/{name}" if path else name
            facts = content = None
            with contextlib.suppress(OSError):
                facts = tree.look(below, through_links=True)
                if facts is not None and facts.kind == "file" and facts.size <= min(_SMALL, left):
                    with tree.open(below, through_links=True) as source:
                        content = source.read(_SMALL + 1)
                    left -= len(content)
                    data.append(content)
            found.append([name, _facts(facts), None if content is None else len(content)])
        return found, b"".join(data)

    def do_file(
        self, call: Call, lane: Lane, body: bytes, place: str, leads_out: bool, path: str, through_links: bool, at: int,
        count: int,
    ) -> tuple[int, bytes]:  # fmt: skip
        """A part of a file, and how long it is."""
        with ReadTree(place, leads_out=leads_out).open(path, through_links=through_links) as source:
            size = source.seek(0, os.SEEK_END)
            source.seek(at)
            return size, source.read(min(count, PART_SIZE))

    # -- changing trees ----------------------------------------------------------------------------------------

    def do_change(self, call: Call, lane: Lane, body: bytes, place: str) -> None:
        """A block of changes: what comes next in this lane, until its end. The first that fails ends it, and what comes
        behind is not done."""
        failed: Optional[Exception] = None
        changes: Any = None
        with contextlib.ExitStack() as stack:
            try:
                changes = stack.enter_context(FileTree(place).changing())
            except OSError as error:
                failed = error
            while True:
                _, number, what, _ = (frame := lane.next()).values
                if what == "changed":
                    if failed is not None:
                        self.send([number, "error", told_error(failed)])
                    else:
                        self.send([number, "done", None])
                    return
                if what == "piece":
                    continue  # of a file that failed
                try:
                    if failed is not None:
                        raise failed
                    answer = self._change(changes, lane, frame)
                except Exception as error:
                    failed = failed or error
                    if number:
                        self.send([number, "error", told_error(failed)])
                else:
                    if number:
                        self.send([number, "done", answer])

    def _change(self, changes: Changing, lane: Lane, frame: Frame) -> Any:
        _, _, what, given = frame.values
        if what in ("stage", "write_there"):
            fields, staged, sizes = given
            entry = Entry.from_json(fields)
            whole = Entry._make((*entry[:7], tuple(str(n) for n in range(len(sizes))), *entry[8:]))
            waiting = memoryview(frame.body)

            def read(identity: str) -> bytes:
                nonlocal waiting
                size = sizes[int(identity)]
                parts = []
                while size:
                    if not waiting:
                        following = lane.next()
                        if following.values[2] != "piece":
                            raise OSError(5, "a file's content did not come")
                        waiting = memoryview(following.body)
                    piece = waiting[:size]
                    parts.append(piece)
                    waiting = waiting[len(piece) :]
                    size -= len(piece)
                return b"".join(parts)

            if what == "stage":
                return changes.stage(whole, read, staged)
            return changes.write_there(whole, read)
        if what in ("make_link", "same_file"):
            return getattr(changes, what)(Entry.from_json(given[0]))
        if what == "set_facts":
            return changes.set_facts(Entry.from_json(given[0]), owner=given[1], times=given[2])
        if what in ("put", "make_folder", "remove", "remove_folder"):
            return getattr(changes, what)(*given)
        raise UsageError("this is no change of a tree")

    def do_write(
        self, call: Call, lane: Lane, body: bytes, place: str, path: str, mode: Optional[int], durable: bool, size: int
    ) -> None:
        FileTree(place).write(path, self._rest(lane, body, size), mode, durable=durable)

    def do_overwrite(
        self, call: Call, lane: Lane, body: bytes, place: str, path: str, mtime_ns: int, size: int
    ) -> None:
        FileTree(place).overwrite(path, self._rest(lane, body, size), mtime_ns)

    def _rest(self, lane: Lane, body: bytes, size: int) -> bytes:
        parts = [body]
        size -= len(body)
        while size > 0:
            parts.append(lane.next().body)
            size -= len(parts[-1])
        return b"".join(parts)

    # -- programs ----------------------------------------------------------------------------------------------

    def do_run(
        self, call: Call, lane: Lane, body: bytes, command: list[str], folder: str, seconds: float,
        variables: Optional[dict[str, str]], keep_open: list[int],
    ) -> list[Any]:  # fmt: skip
        ran = run_program(
            command, folder=Path(folder), time_limit=seconds, environment=self._variables(variables),
            keep_open=[self._lease_files[number] for number in keep_open],
        )  # fmt: skip
        return [ran.command, ran.code, ran.output, ran.seconds]

    def do_ask(
        self, call: Call, lane: Lane, body: bytes, command: list[str], seconds: float,
        variables: Optional[dict[str, str]], size: int,
    ) -> tuple[None, bytes]:  # fmt: skip
        told = self._rest(lane, body, size)
        return None, ask_program(command, seconds=seconds, told=told, environment=self._variables(variables))

    def _variables(self, more: Optional[dict[str, str]]) -> dict[str, str]:
        return {**clean_environment(), **(more or {})}

    def do_program(self, call: Call, lane: Lane, body: bytes, name: str, path: Optional[str]) -> Optional[str]:
        if "/" in name:
            return name if os.path.exists(name) else None
        return find_program(name, path)

    def do_variables(self, call: Call, lane: Lane, body: bytes) -> dict[str, str]:
        return clean_environment()

    def do_environment(self, call: Call, lane: Lane, body: bytes, what: str, given: list[Any]) -> Any:
        if what not in _ENVIRONMENTS:
            raise UsageError("this is not asked of environments")
        return getattr(self._environments, what)(*given)

    def do_install(
        self, call: Call, lane: Lane, body: bytes, environment: str, wants: list[str], removes: list[str],
        wheelhouse: Optional[str], seconds: float, variables: Optional[dict[str, str]], prefix: list[str],
    ) -> list[Any]:  # fmt: skip
        ran = self._environments.install(environment, wants, removes, wheelhouse, seconds, variables, prefix)
        return [ran.command, ran.code, ran.output, ran.seconds]

    # -- what is held ------------------------------------------------------------------------------------------

    def do_hold(
        self, call: Call, lane: Lane, body: bytes, number: int, place: str, what: str, seconds: float, doing: str
    ) -> None:
        stack = contextlib.ExitStack()
        descriptor = stack.enter_context(held(Path(place), what, seconds, doing=doing, passing=True))
        self._leases[number] = stack
        self._lease_files[number] = descriptor
        self._lease_folders[number] = os.path.dirname(place)

    def do_let_go(self, call: Call, lane: Lane, body: bytes, number: int) -> None:
        self._let_go(number)

    def _let_go(self, number: int) -> None:
        stack = self._leases.pop(number, None)
        self._lease_files.pop(number, None)
        if stack is not None:
            folder = self._lease_folders.pop(number)
            stack.close()
            _remove_empty(folder)

    def do_tidy(self, call: Call, lane: Lane, body: bytes, place: str) -> None:
        """Remove a folder and the one in which it is, as far as nothing is in them."""
        _remove_empty(place)


def _remove_empty(folder: str) -> None:
    with contextlib.suppress(OSError):  # others may hold something there
        os.rmdir(folder)
        os.rmdir(os.path.dirname(folder))


def _facts(found: Optional[Facts]) -> Any:
    if found is None:
        return None
    return [found.kind, found.mode, found.size, found.mtime_ns, found.stamp, found.linked, found.disk]


def told_error(error: BaseException) -> list[Any]:
    """An error as it travels; `keenharbor.host.far.asking.raised` makes one of it again."""
    if isinstance(error, HeldError):
        return ["held", error.what, error.where, error.advice]
    if isinstance(error, UsageError):
        return ["usage", error.what, error.where, error.advice]
    if isinstance(error, KeenHarborError):
        return ["own", error.what, error.where, error.advice]
    if isinstance(error, ProgramError):
        return ["program", error.words]
    if isinstance(error, OSError):
        return [
            "os",
            error.errno,
            error.strerror or str(error),
            error.filename if isinstance(error.filename, str) else None,
        ]
    if isinstance(error, sqlite3.Error):
        return ["database", type(error).__name__, str(error)]
    if isinstance(error, UnicodeEncodeError):
        return ["unicode", str(error)]
    return ["other", f"{type(error).__name__}: {error}"]


def _user_name() -> str:
    import getpass

    try:
        return getpass.getuser()
    except Exception:
        return str(os.geteuid())


def main(read: BinaryIO, write: BinaryIO) -> None:
    """Serve until the line ends. What any code prints here goes to standard error: the answers have the line."""
    sys.setswitchinterval(0.002)
    helper = Helper(read, write)
    try:
        helper.serve()
    except (FrameError, OSError, ValueError):
        pass
    finally:
        helper.end()

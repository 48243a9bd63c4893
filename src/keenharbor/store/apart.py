"""Work that several processes share, each with a writer of its own.

Reading many files is thousands of short calls, between which Python's threads wait for each other; processes do not.
They are forked, so that what they work on needs no sending, and give back results through a pipe."""

from __future__ import annotations

import contextlib
import mmap
import os
import pickle
import signal
import socket
import struct
import sys
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from multiprocessing.connection import Connection, Pipe, wait
from typing import Any, Generic, NoReturn, TypeVar, cast

from keenharbor.base.errors import KeenHarborError

A = TypeVar("A")
T = TypeVar("T")
Share = Callable[[Callable[[T], None]], Any]
"""One process's part: gives each result to its argument, and returns what is to be known at the end."""


def may_fork() -> bool:
    """Whether a copy of this process would be whole: no other thread holds a lock in it."""
    return sys.platform != "win32" and threading.active_count() == 1


class Crew(Generic[A, T]):
    """Processes that are forked to carry out a work each: it gets what is handed out to it, and a function that takes a
    result for each of these (or as many as there are, where nothing is handed out).

    An error of one is raised here as soon as it is known. Call `close` in any case.
    """

    def __init__(self, works: Sequence[Callable[[Iterator[A], Callable[[T], None]], Any]]) -> None:
        self._ends: dict[Connection[Any, Any], int] = {}
        self._waiting: Counter[Connection[Any, Any]] = Counter()
        self._processes: list[int] = []
        self._returned: list[Any] = [None] * len(works)
        try:
            for number, work in enumerate(works):
                here, there = _both_ways()
                process = os.fork()
                if process == 0:
                    for other in self._ends:
                        other.close()
                    here.close()
                    _work(partial(work, _handed_out(there)), there)
                there.close()
                self._processes.append(process)
                self._ends[here] = number
        except BaseException:
            self.close()
            raise

    def hand_out(self, items: Iterable[A], done: Callable[[T], None]) -> None:
        """Give each of ``items``, as they come, to the process that has least to do; returns when ``done`` has had a
        result for all of them. The processes may have something to do then still, which `returned` waits for."""
        source = iter(items)
        more = True
        while more or any(self._waiting[end] for end in self._ends):
            if not self._ends:
                raise _ended()
            least = min(self._ends, key=self._waiting.__getitem__)
            room = more and self._waiting[least] < _AHEAD
            if room:
                item = next(source, None)
                if item is not None:
                    self._waiting[least] += 1
                    self._send(least, item)
                else:
                    more = False
                    for end in self._ends:
                        self._send(end, None)
            self._take(done, 0 if room else None)

    def _send(self, end: Connection[Any, Any], item: A | None) -> None:
        """An item, or None behind the last one."""
        with contextlib.suppress(OSError):  # it has ended, and said why
            end.send_bytes(pickle.dumps(item, pickle.HIGHEST_PROTOCOL))

    def returned(self, done: Callable[[T], None] = lambda result: None) -> list[Any]:
        """What each work returned, when all have; results that come until then go to ``done``."""
        while self._ends:
            self._take(done, None)
        return self._returned

    def _take(self, done: Callable[[T], None], seconds: float | None) -> None:
        for end in cast("list[Connection[Any, Any]]", wait(list(self._ends), seconds)):
            try:
                what, value = end.recv()
            except (EOFError, OSError):
                raise _ended() from None
            if what == "failed":
                raise value
            if what == "end":
                self._returned[self._ends.pop(end)] = value
                end.close()
            else:
                self._waiting[end] -= 1
                done(value)

    def close(self) -> None:
        """Listen to none any more, and wait until they have ended."""
        for end in self._ends:
            end.close()
        self._ends.clear()
        _wait_for(self._processes)
        self._processes.clear()


_AHEAD = 2
"""So many items a process has at once: the next is there when it has done with one."""
_PIPE_BYTES = 256 * 1024
"""Room for what one side sends while the other does not listen: two items, or their results, must fit."""


def _both_ways() -> tuple[Connection[Any, Any], Connection[Any, Any]]:
    ends = socket.socketpair()
    for end in ends:
        end.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, _PIPE_BYTES)
    return Connection(ends[0].detach()), Connection(ends[1].detach())


def _handed_out(there: Connection[Any, Any]) -> Iterator[Any]:
    """What comes from the parent; raises `BrokenPipeError` when that has gone."""
    try:
        while (item := pickle.loads(there.recv_bytes())) is not None:
            yield item
    except (EOFError, ConnectionResetError):
        raise BrokenPipeError from None


def share_out(shares: Sequence[Share[T]], done: Callable[[T], None]) -> list[Any]:
    """Let a process of its own carry out each of ``shares``; ``done`` gets the results here, as they come.

    Returns what each share returned. An error of one ends all, and is raised here. A process whose parent has been
    killed ends at its next result (or when it calls `end_with_parent`).
    """

    def work(share: Share[T], handed_out: Iterator[None], give: Callable[[T], None]) -> Any:
        return share(give)

    crew: Crew[None, T] = Crew([partial(work, share) for share in shares])
    try:
        return crew.returned(done)
    finally:
        crew.close()


Message = tuple[bytes, bytes]
"""Two pieces of data that belong together; either may be empty."""


def feed(work: Callable[[Iterator[Message]], T], messages: Iterable[Message]) -> T:
    """Let a process of its own carry out ``work`` on ``messages``, which are sent to it as they come, and return what
    it returns. An error of either side ends both, and is raised here."""
    channel = _Channel()
    answer, answering = Pipe(duplex=False)
    process = os.fork()
    if process == 0:
        answer.close()
        _work(lambda _: work(channel.received()), answering)
    answering.close()
    channel.is_sender()
    try:
        with contextlib.suppress(BrokenPipeError):  # it has given up, and says why
            for message in messages:
                channel.send(message)
            channel.send((b"", b""))
        channel.end()
        try:
            what, value = answer.recv()
        except EOFError:
            raise _ended() from None
        if what == "failed":
            raise value
        return cast("T", value)
    finally:
        channel.close()
        answer.close()
        _wait_for([process])


def _wait_for(processes: Sequence[int]) -> None:
    """Wait for processes that have done, or that nobody listens to any more: those end at what they would give next.
    One that does not, since it waits for a server itself, is ended; what it leaves is collected by the next run."""
    latest = time.monotonic() + _PATIENCE_SECONDS
    for process in processes:
        while os.waitpid(process, os.WNOHANG) == (0, 0):
            if time.monotonic() > latest:
                os.kill(process, signal.SIGKILL)
                os.waitpid(process, 0)
                break
            time.sleep(0.002)


_PATIENCE_SECONDS = 15.0
_SLOTS, _SLOT_BYTES = 4, 1024 * 1024
_HEAD = struct.Struct("<bQQ")
_BY_PIPE = -1


class _Channel:
    """From a process to one that it forks: messages lie in memory that both see, and a pipe says where, which takes a
    fifth of the time that they take through the pipe (those do that are larger than a slot)."""

    def __init__(self) -> None:
        self._shared = mmap.mmap(-1, _SLOTS * _SLOT_BYTES)
        self._there, self._here = Pipe(duplex=False)
        self._emptied, self._empties = Pipe(duplex=False)
        self._free = list(range(_SLOTS))

    def is_sender(self) -> None:
        """Close what the other process has."""
        self._there.close()
        self._empties.close()

    def send(self, message: Message) -> None:
        """Raises `BrokenPipeError` when the other process takes no more."""
        first, second = message
        if len(first) + len(second) > _SLOT_BYTES:
            self._here.send_bytes(_HEAD.pack(_BY_PIPE, len(first), len(second)))
            self._here.send_bytes(first + second)
            return
        if not self._free:
            try:
                self._free += self._emptied.recv_bytes()
            except EOFError:
                raise BrokenPipeError from None
        slot = self._free.pop()
        start = slot * _SLOT_BYTES
        self._shared[start : start + len(first)] = first
        self._shared[start + len(first) : start + len(first) + len(second)] = second
        self._here.send_bytes(_HEAD.pack(slot, len(first), len(second)))

    def received(self) -> Iterator[Message]:
        """What comes, up to two empty pieces, in the other process. Raises `BrokenPipeError` when it ends without
        them."""
        self._here.close()
        self._emptied.close()
        try:
            while True:
                slot, first, second = _HEAD.unpack(self._there.recv_bytes())
                if not first and not second:
                    return
                if slot == _BY_PIPE:
                    both = self._there.recv_bytes()
                    yield both[:first], both[first:]
                    continue
                start = slot * _SLOT_BYTES
                message = self._shared[start : start + first], self._shared[start + first : start + first + second]
                self._empties.send_bytes(bytes([slot]))
                yield message
        except EOFError:
            raise BrokenPipeError from None

    def end(self) -> None:
        """Send no more; what was sent is taken in all the same."""
        self._here.close()

    def close(self) -> None:
        """Take no part any more."""
        self._here.close()
        self._emptied.close()


def _ended() -> KeenHarborError:
    return KeenHarborError("a process that stores what was read was ended from outside", advice="try again")


def _work(share: Share[Any], there: Connection[Any, Any]) -> NoReturn:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the parent decides, and closes the pipe
    status = 1
    try:
        try:
            there.send(("end", share(lambda result: there.send(("result", result)))))
            status = 0
        except BrokenPipeError:
            pass  # the parent has given up
        except BaseException as error:
            there.send(("failed", _sendable(error)))
    finally:
        os._exit(status)  # nothing of the parent's (buffers, locks, temporary folders) is to be tidied here


def _sendable(error: BaseException) -> BaseException:
    return (
        error if isinstance(error, (OSError, KeenHarborError)) else KeenHarborError(f"{type(error).__name__}: {error}")
    )


def end_with_parent(parent: int) -> None:
    """Raise `BrokenPipeError` when the process ``parent`` is not there any more to take a result."""
    if os.getppid() != parent:
        raise BrokenPipeError


class Claims:
    """Which of several processes is to store a content: the first that comes with it. To be made before they are
    forked.

    A table in memory that all see; a content that falls on another's place makes it be forgotten, and two that come at
    the same instant may both be told that they are first: then a content is stored twice, which does no harm. One that
    was never claimed is not taken for one that was, since its whole id must be there."""

    def __init__(self) -> None:
        self._table = mmap.mmap(-1, _CLAIMS * _CLAIM_BYTES)

    def is_first(self, identity: str) -> bool:
        """Claim the content with that id (hexadecimal, of 32 bytes)."""
        raw = bytes.fromhex(identity)
        at = int.from_bytes(raw[:4], "little") % _CLAIMS * _CLAIM_BYTES
        if self._table[at : at + _CLAIM_BYTES] == raw:
            return False
        self._table[at : at + _CLAIM_BYTES] = raw
        return True


_CLAIMS, _CLAIM_BYTES = 1 << 18, 32

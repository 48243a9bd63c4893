"""Work that several processes share, each with a writer of its own.

Reading many files is thousands of short calls, between which Python's threads wait for each other; processes do not. They
are forked, so that what they work on needs no sending, and give back results through a pipe.
"""

from __future__ import annotations

import contextlib
import mmap
import os
import signal
import struct
import sys
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from multiprocessing.connection import Connection, Pipe, wait
from typing import Any, NoReturn, TypeVar, cast

from keenharbor.base.errors import KeenHarborError

T = TypeVar("T")
Share = Callable[[Callable[[T], None]], Any]
"""One process's part: gives each result to its argument, and returns what is to be known at the end."""


def may_fork() -> bool:
    """Whether a copy of this process would be whole: no other thread holds a lock in it."""
    return sys.platform != "win32" and threading.active_count() == 1


def share_out(shares: Sequence[Share[T]], done: Callable[[T], None]) -> list[Any]:
    """Let a process of its own carry out each of ``shares``; ``done`` gets the results here, as they come.

    Returns what each share returned. An error of one ends all, and is raised here. A process whose parent has been
    killed ends at its next result (or when it calls `end_with_parent`).
    """
    ends: dict[Connection[Any, Any], int] = {}
    processes: list[int] = []
    returned: list[Any] = [None] * len(shares)
    try:
        for number, share in enumerate(shares):
            here, there = Pipe(duplex=False)
            process = os.fork()
            if process == 0:
                for other in ends:
                    other.close()
                here.close()
                _work(share, there)
            there.close()
            processes.append(process)
            ends[here] = number
        while ends:
            for end in cast("list[Connection[Any, Any]]", wait(list(ends))):
                try:
                    what, value = end.recv()
                except EOFError:
                    raise _ended() from None
                if what == "failed":
                    raise value
                if what == "end":
                    returned[ends.pop(end)] = value
                    end.close()
                else:
                    done(value)
    finally:
        for left in ends:
            left.close()
        _wait_for(processes)
    return returned


Message = tuple[bytes, bytes]
"""Two pieces of data that belong together; either may be empty."""


def feed(work: Callable[[Iterator[Message]], T], messages: Iterable[Message]) -> T:
    """Let a process of its own carry out ``work`` on ``messages``, which are sent to it as they come, and return what it
    returns. An error of either side ends both, and is raised here."""
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
    """Wait for processes that have done, or that nobody listens to any more: those end at what they would give next. One that
    does not, since it waits for a server itself, is ended; what it leaves is collected by the next run."""
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
    """From a process to one that it forks: messages lie in memory that both see, and a pipe says where, which takes a fifth
    of the time that they take through the pipe (those do that are larger than a slot)."""

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
        """What comes, up to two empty pieces, in the other process. Raises `BrokenPipeError` when it ends without them."""
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


class Turns:
    """The numbers below ``count``, each of which one process takes when it has done with its last: none is left with much to
    do while others have nothing. To be made before the processes are forked, and closed afterwards."""

    MOST = 256
    """The largest ``count``: a number is one byte."""

    def __init__(self, count: int) -> None:
        self._left, filled = os.pipe()
        os.write(filled, bytes(range(count)))
        os.close(filled)

    def __iter__(self) -> Iterator[int]:
        while number := os.read(self._left, 1):
            yield number[0]

    def close(self) -> None:
        """No process is to be forked any more."""
        os.close(self._left)


class Claims:
    """Which of several processes is to store a content: the first that comes with it. To be made before they are forked.

    A table in memory that all see; a content that falls on another's place makes it be forgotten, and two that come at the same
    instant may both be told that they are first: then a content is stored twice, which does no harm. One that was
    never claimed is not taken for one that was, since its whole id must be there.
    """

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

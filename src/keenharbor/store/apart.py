"""Work that several processes share, each with a writer of its own.

Reading many files is thousands of short calls, between which Python's threads wait for each other; processes do not. They
are forked, so that what they work on needs no sending, and give back results through a pipe.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import signal
import sys
import threading
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
        for process in processes:
            os.waitpid(process, 0)
    return returned


Message = tuple[bytes, bytes]
"""Two pieces of data that belong together; either may be empty."""


def feed(work: Callable[[Iterator[Message]], T], messages: Iterable[Message]) -> T:
    """Let a process of its own carry out ``work`` on ``messages``, which are sent to it as they come, and return what it
    returns. An error of either side ends both, and is raised here."""
    from_here, to_there = Pipe(duplex=False)
    answer, answering = Pipe(duplex=False)
    process = os.fork()
    if process == 0:
        to_there.close()
        answer.close()
        _work(lambda _: work(_received(from_here)), answering)
    from_here.close()
    answering.close()
    _widen(to_there)
    try:
        with contextlib.suppress(BrokenPipeError):  # it has given up, and says why
            for first, second in messages:
                to_there.send_bytes(first)
                to_there.send_bytes(second)
            to_there.send_bytes(b"")
            to_there.send_bytes(b"")
        to_there.close()
        try:
            what, value = answer.recv()
        except EOFError:
            raise _ended() from None
        if what == "failed":
            raise value
        return cast("T", value)
    finally:
        to_there.close()
        answer.close()
        os.waitpid(process, 0)


def _received(pipe: Connection[Any, Any]) -> Iterator[Message]:
    """What the parent sends, up to two empty pieces. Raises `BrokenPipeError` when it ends without them."""
    try:
        while (message := (pipe.recv_bytes(), pipe.recv_bytes())) != (b"", b""):
            yield message
    except EOFError:
        raise BrokenPipeError from None


def _widen(pipe: Connection[Any, Any]) -> None:
    """Let the pipe hold more, so that the two sides wait less for each other; where the system allows it."""
    with contextlib.suppress(OSError, AttributeError):
        fcntl.fcntl(pipe.fileno(), fcntl.F_SETPIPE_SZ, 1024 * 1024)


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


def lanes(items: Iterable[T], count: int, lane: Callable[[T], int]) -> list[list[T]]:
    """``items`` in ``count`` lists, by the number that ``lane`` gives each."""
    found: list[list[T]] = [[] for _ in range(count)]
    for item in items:
        found[lane(item) % count].append(item)
    return found

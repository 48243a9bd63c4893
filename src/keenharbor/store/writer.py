"""Taking objects into a store: by threads, or by processes with a pack of their own each."""

from __future__ import annotations

import itertools
import os
import sys
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, TypeVar

from keenharbor.base.durable import sync_folder
from keenharbor.store.apart import Claims, Crew, Message, end_with_parent, feed, may_fork, share_out
from keenharbor.store.packs import (
    PACK_SIZE,
    WORTH_WRITING,
    Bundle,
    ObjectId,
    Packed,
    Packer,
    PackWriter,
    object_id,
    pack_near,
)

if TYPE_CHECKING:
    from keenharbor.store.store import Store

Pack = Callable[[bytes, ObjectId | None], ObjectId]
"""Hashes and compresses a content, possibly near another object, and gives its id."""


A = TypeVar("A")


T = TypeVar("T")


_WORTH_PROCESSES = 16 * 1024 * 1024


_WORTH_ASKING = 1024 * 1024
"""Bytes behind which a process looks whether its parent is still there (also behind each batch)."""


_MOST_IN_MEMORY = 8 * 1024 * 1024
"""What one thread may hold until it is written."""


class ObjectWriter:
    """Adds objects to a store; what the store has already is not written again.

    Contents are read, hashed and compressed by threads (all three let other threads run), and written in the order in
    which they were given. Objects can be relied on after `flush` (or the end of the ``with`` block without an error).
    """

    def __init__(
        self, store: Store, workers: int, level: int, *, forks: bool = True, claims: Claims | None = None
    ) -> None:
        self._store = store
        self._claims = claims
        self._level = level
        self._forks = forks
        self._workers = workers
        self._pool = ThreadPoolExecutor(workers, "pack")
        self._sealer = ThreadPoolExecutor(1, "seal")
        self._most_waiting = 2 * workers + 2
        self._waiting: deque[Callable[[], None]] = deque()
        self._pack: PackWriter | None = None
        self._sealing: list[tuple[PackWriter, Future[Path]]] = []
        self._own: set[ObjectId] = set()
        self._crews: list[Crew[Any, Any]] = []
        self._count = 0
        self.added_objects = 0
        self.added_bytes = 0

    def __enter__(self) -> ObjectWriter:
        self._store.refresh()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            if kind is None:
                self.flush()
        finally:
            for crew in self._crews:
                crew.close()
            self._pool.shutdown(cancel_futures=True)
            self._sealer.shutdown()
            if self._pack is not None:
                self._pack.discard()
                self._pack = None

    def run(self, task: Callable[[Pack], T], done: Callable[[T], None]) -> None:
        """Let a thread carry out ``task``, which stores contents through the function that it is given; ``done`` gets
        what it returned, in the order of the calls, in this thread, at the latest when `finish` returns.

        With one worker there is nothing to do beside it, and two threads would only wait for each other: it is done at
        once."""
        if self._workers == 1:
            done(self._do(task))
            return
        future = self._pool.submit(self._work, task)

        def take() -> None:
            result, packed = future.result()
            self._append(packed)
            done(result)

        self._waiting.append(take)
        while len(self._waiting) > self._most_waiting:
            self._waiting.popleft()()

    def _work(self, task: Callable[[Pack], T]) -> tuple[T, list[Packed | Bundle]]:
        """Carry out ``task`` in any thread: what it stores is to be written afterwards, and must fit into memory until
        then."""
        packer = Packer(self._level)
        seen: set[ObjectId] = set()

        def store(content: bytes, near: ObjectId | None = None) -> ObjectId:
            identity = object_id(content)
            if identity not in seen and identity not in self._own and not self._store.knows(identity):
                seen.add(identity)
                self._pack_into(packer, identity, content, near)
            return identity

        return task(store), packer.take()

    def _do(self, task: Callable[[Pack], T], parent: int | None = None) -> T:
        """Carry out ``task`` in this thread: what it stores is packed at once, while it is still near to the processor,
        and written every few megabytes. With a ``parent``, end when that is not there any more."""
        packer = Packer(self._level)
        own, knows, claims = self._own, self._store.knows, self._claims
        waiting: set[ObjectId] = set()

        def write() -> None:
            self._put(packer.take())
            waiting.clear()

        def store(content: bytes, near: ObjectId | None = None) -> ObjectId:
            identity = object_id(content)
            if (
                identity not in waiting
                and identity not in own
                and not knows(identity)
                and (claims is None or claims.is_first(identity))
            ):
                waiting.add(identity)
                self._pack_into(packer, identity, content, near)
                if packer.size >= WORTH_WRITING:
                    write()
            if parent is not None and len(content) > _WORTH_ASKING:
                end_with_parent(parent)
            return identity

        result = task(store)
        write()
        return result

    def _pack_into(self, packer: Packer, identity: ObjectId, content: bytes, near: ObjectId | None) -> None:
        close = self._store.near(near) if near is not None else None
        item = pack_near(identity, content, *close) if close is not None else None
        if item is not None:
            packer.add_packed(item)
        else:
            packer.add(identity, content)

    def work_on(
        self, batches: Iterable[A], size_of: Callable[[A], int], work: Callable[[A, Pack], T], done: Callable[[T], None]
    ) -> None:
        """Carry out ``work`` on each of ``batches``, which is to store about `size_of` it in bytes; ``done`` gets what
        it returned, in this thread. When there is much to do, processes do it, and the next batches are found
        meanwhile."""
        self._join_crews()
        batches = iter(batches)
        if self._workers > 1:
            held: list[A] = []
            size = 0
            while size < _WORTH_PROCESSES and (batch := next(batches, None)) is not None:
                held.append(batch)
                size += size_of(batch)
            if size < _WORTH_PROCESSES:
                for batch in held:
                    self.run(partial(work, batch), done)
                self._rest()
                return
            batches = itertools.chain(held, batches)
            self._rest()
            if self._may_fork():
                self._hand_out(batches, work, done)
                return
            if not self._forks:  # threads then, which wait for what is elsewhere; what is large comes by itself
                for batch in batches:
                    if size_of(batch) > _MOST_IN_MEMORY:
                        self.finish()
                        done(self._do(partial(work, batch)))
                    else:
                        self.run(partial(work, batch), done)
                self._rest()
                return
        self.finish()
        for batch in batches:
            done(self._do(partial(work, batch)))

    def _hand_out(self, batches: Iterable[A], work: Callable[[A, Pack], T], done: Callable[[T], None]) -> None:
        """Let processes carry out ``work``. What they have stored is forced to disk while this one goes on; `flush`
        waits for that."""
        parent, claims = os.getpid(), Claims()

        def carry_out(handed_out: Iterator[A], give: Callable[[T], None]) -> tuple[int, int]:
            with ObjectWriter(self._store, 1, self._level, claims=claims) as writer:
                for batch in handed_out:
                    give(writer._do(partial(work, batch), parent))
            return writer.added_objects, writer.added_bytes

        crew: Crew[A, T] = Crew([carry_out] * self._workers)
        self._crews.append(crew)
        crew.hand_out(batches, done)

    def _join_crews(self) -> None:
        """Wait for the processes that `_hand_out` has left at work."""
        while self._crews:
            for told in self._crews[-1].returned():
                self._take_over(*told)
            self._crews.pop().close()

    def _share_out(
        self, works: Sequence[Callable[[ObjectWriter, Callable[[A], None]], T]], done: Callable[[A], None]
    ) -> list[T]:
        claims = Claims()

        def share(
            work: Callable[[ObjectWriter, Callable[[A], None]], T], give: Callable[[A], None]
        ) -> tuple[T, int, int]:
            with ObjectWriter(self._store, 1, self._level, claims=claims) as writer:
                result = work(writer, give)
            return result, writer.added_objects, writer.added_bytes

        results = []
        for result, *told in share_out([partial(share, work) for work in works], done):
            self._take_over(*told)
            results.append(result)
        return results

    @property
    def processes(self) -> int:
        """How many processes `each` may well be given work for; 1 where there can be no others."""
        return self._workers if self._forks and sys.platform != "win32" else 1

    def _may_fork(self) -> bool:
        return self._forks and may_fork()

    def each(
        self, works: Sequence[Callable[[ObjectWriter, Callable[[int], None]], T]], seen: Callable[[int], None]
    ) -> list[T]:
        """Carry out each of ``works`` in a process of its own, with a writer into the same store, and return what they
        return; what one gives to its second argument comes to ``seen`` here."""
        self._rest()
        if not self._may_fork():
            return [work(self, seen) for work in works]
        return self._share_out(works, seen)

    def apart(self, work: Callable[[Iterator[Message], ObjectWriter], T], messages: Iterable[Message]) -> T:
        """Carry out ``work``, which stores what ``messages`` bring through the writer that it is given, and return what
        it returns: in a process of its own, so that this one can go on reading."""
        self._rest()
        if self._workers == 1 or not self._may_fork():
            return work(iter(messages), self)

        def carry_out(received: Iterator[Message]) -> tuple[T, int, int]:
            with ObjectWriter(self._store, self._workers - 1, self._level) as writer:  # this process is one, too
                result = work(received, writer)
            return result, writer.added_objects, writer.added_bytes

        result, *told = feed(carry_out, messages)
        self._take_over(*told)
        return result

    def _take_over(self, objects: int, count: int) -> None:
        """Learn of what another process has added."""
        self.added_objects += objects
        self.added_bytes += count
        self._store.expect_more()

    def _rest(self) -> None:
        """Wait until all that was given is taken in, and end the threads: with none left, a process can be forked."""
        self.finish()
        self._pool.shutdown()
        self._pool = ThreadPoolExecutor(self._workers, "pack")

    def put(
        self, contents: Sequence[bytes], near: Sequence[ObjectId | None], done: Callable[[list[str]], None]
    ) -> None:
        """Store ``contents`` (see `keenharbor.database.rows.ChunkSink`)."""
        self.run(lambda store: [store(c, n) for c, n in zip(contents, near, strict=True)], done)

    def finish(self) -> None:
        """Wait until all that was given is taken in."""
        while self._waiting:
            self._waiting.popleft()()

    def add(self, content: bytes) -> ObjectId:
        """Store ``content`` now and return its id."""
        return self._do(lambda store: store(content, None))

    def add_all(self, contents: Iterable[bytes]) -> None:
        """Store ``contents`` as they come; small ones that follow each other lie together."""

        def each(store: Pack) -> None:
            for content in contents:
                store(content, None)

        self._do(each)

    @property
    def own(self) -> frozenset[ObjectId]:
        """What this writer has added."""
        return frozenset(self._own)

    def add_again(self, identity: ObjectId, content: bytes) -> None:
        """Store an object that is in the store already, damaged."""
        packer = Packer(self._level)
        packer.add(identity, content)
        self._put(packer.take())

    def _append(self, items: list[Packed | Bundle]) -> None:
        """Write those of ``items`` that no other thread has brought meanwhile."""
        self._put([item for item in items if not all(i in self._own or self._store.knows(i) for i in item.identities)])

    def _put(self, items: list[Packed | Bundle]) -> None:
        if not items:
            return
        if self._pack is None:
            self._count += 1
            self._pack = PackWriter(self._store.folder / "packs", self._store.folder / "staging", self._count)
        before = self._pack.size
        self._pack.add(items)
        for item in items:
            self._own.update(item.identities)
            self.added_objects += len(item.identities)
        self.added_bytes += self._pack.size - before
        if self._pack.size >= PACK_SIZE:
            self._seal()

    def _seal(self) -> None:
        """Let a thread force the open pack to disk while others are filled."""
        if self._pack is not None:
            self._sealing.append((self._pack, self._sealer.submit(self._pack.seal)))
            self._pack = None
        while len(self._sealing) > 1:
            self._adopt()

    def _adopt(self) -> None:
        sealed, future = self._sealing.pop(0)
        future.result()
        self._store.adopt(sealed)

    def flush(self) -> None:
        """Seal the open pack: all that was added so far is durable afterwards."""
        self.finish()
        self._join_crews()
        self._seal()
        if self._sealing:
            while self._sealing:
                self._adopt()
            sync_folder(self._store.folder / "index")

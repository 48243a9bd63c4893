"""Several processes that read files into one store."""

from __future__ import annotations

import contextlib
import errno
import itertools
import os
import random
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NoReturn

import psutil
import pytest

from keenharbor.base.errors import KeenHarborError
from keenharbor.database import DatabasePlace, StoredState, open_database, store_state
from keenharbor.host import FileTree, WalkRules
from keenharbor.store import Store, object_id, writer
from keenharbor.store.apart import Claims, Crew, feed, share_out
from keenharbor.store.packs import PackWriter
from keenharbor.tree import AreaRules, scan_tree
from keenharbor.tree.scan import read_content


@pytest.fixture
def processes(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(writer, "_WORTH_PROCESSES", 0)
    monkeypatch.setattr(writer, "may_fork", lambda: True)  # the test runner's own thread holds no lock of ours


def make_tree(root: Path) -> None:
    chance = random.Random(5)
    contents = [chance.randbytes(chance.randint(0, 90_000)) for _ in range(150)] + [b"seed " * 3000, b""]
    for n in range(400):
        file = root / f"folder{n % 7}" / f"file{n}"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(chance.choice(contents))


def test_processes_store_what_one_thread_does(tmp_path: Path, processes: None) -> None:
    make_tree(tmp_path / "site")
    found = {}
    for workers in (1, 3):
        kept = Store.create(tmp_path / f"store{workers}")
        scan = scan_tree(FileTree(str(tmp_path / "site")), WalkRules(AreaRules({})))
        with kept.writing(workers) as writer:
            read = read_content(FileTree(str(tmp_path / "site")), scan, writer, {}, kept.has, lambda done, total: None)
        assert read == 400
        assert (len(kept.pack_files()) > 1) == (workers > 1)  # each process fills a pack of its own
        for path, entry in scan.entries.items():
            if entry.kind == "file":
                assert b"".join(map(kept.read, entry.objects)) == (tmp_path / "site" / path).read_bytes()
        found[workers] = ({p: e.objects for p, e in scan.entries.items()}, writer.added_objects)
    assert found[1][0] == found[3][0]
    # What is alike is stored once, but where two processes come to it at the same instant.
    assert found[1][1] <= found[3][1] <= found[1][1] + 3


def test_a_content_is_claimed_once() -> None:
    claims = Claims()
    ids = [object_id(str(n).encode()) for n in range(1000)]
    assert all(claims.is_first(i) for i in ids)
    assert sum(claims.is_first(i) for i in ids) < 50, "few are forgotten for others"
    assert not claims.is_first(ids[-1])
    process = os.fork()
    if process == 0:
        os._exit(int(claims.is_first(ids[-1])))
    assert os.waitpid(process, 0)[1] == 0, "another process sees it"


def test_a_gentle_run_has_one_process(tmp_path: Path, processes: None) -> None:
    make_tree(tmp_path / "site")
    kept, scan = Store.create(tmp_path / "store"), scan_tree(FileTree(str(tmp_path / "site")), WalkRules(AreaRules({})))
    with kept.writing(3, forks=False) as writer:
        assert writer.processes == 1
        read_content(FileTree(str(tmp_path / "site")), scan, writer, {}, kept.has, lambda done, total: None)
        assert writer.apart(lambda messages, there: there is writer, []) is True
    assert len(kept.pack_files()) == 1
    assert all(
        b"".join(map(kept.read, e.objects)) == (tmp_path / "site" / p).read_bytes()
        for p, e in scan.entries.items()
        if e.kind == "file"
    )


def test_an_error_in_a_process_is_raised_as_it_was(tmp_path: Path) -> None:
    def fail(give: object) -> NoReturn:
        raise KeenHarborError("no room", where=tmp_path, advice="make some")

    with pytest.raises(KeenHarborError) as caught:
        share_out([lambda give: None, fail], lambda result: None)
    assert (caught.value.what, caught.value.where, caught.value.advice) == ("no room", str(tmp_path), "make some")


def test_a_process_that_is_killed_ends_the_run(tmp_path: Path) -> None:
    before = psutil.Process().children()  # other tests' servers, in the same process
    with pytest.raises(KeenHarborError, match="ended from outside"):
        share_out(
            [lambda give: os.kill(os.getpid(), signal.SIGKILL), lambda give: time.sleep(0.1)], lambda result: None
        )
    assert psutil.Process().children() == before


ENDLESS = """
import sys, time
from pathlib import Path
from keenharbor.store.apart import share_out
def share(give):
    while True:
        give("x")
        time.sleep(0.01)
share_out([share, share], lambda result: print(result, flush=True))
"""


@pytest.mark.parametrize("program", ["ENDLESS", "HANDS_OUT"])
def test_the_processes_of_a_killed_run_end(program: str) -> None:
    run = subprocess.Popen([sys.executable, "-c", globals()[program]], stdout=subprocess.PIPE)
    assert run.stdout is not None
    assert run.stdout.readline() == b"x\n"
    children = psutil.Process(run.pid).children()
    assert len(children) == 2
    run.kill()
    run.wait()
    _, alive = psutil.wait_procs(children, timeout=5)
    assert not alive


@pytest.mark.parametrize("count", [0, 1, 500])
def test_each_item_is_handed_to_one_process_and_comes_back(count: int) -> None:
    def double(handed_out: Iterator[int], give: Callable[[tuple[int, int]], None]) -> int:
        taken = 0
        for item in handed_out:
            give((item, 2 * item))
            taken += 1
        return taken

    before = psutil.Process().children()
    found: dict[int, int] = {}
    crew: Crew[int, tuple[int, int]] = Crew([double, double])
    try:
        crew.hand_out(iter(range(count)), lambda result: found.update([result]))
        assert found == {n: 2 * n for n in range(count)}
        taken = crew.returned()
    finally:
        crew.close()
    assert sum(taken) == count
    assert count < 500 or min(taken) > 0, "both had some"
    assert psutil.Process().children() == before


def test_items_as_large_as_batches_may_be_do_not_block_both_sides() -> None:
    def echo(handed_out: Iterator[bytes], give: Callable[[bytes], None]) -> None:
        for item in handed_out:
            give(item)

    items = [bytes([n]) * 100_000 for n in range(40)]
    found: list[bytes] = []
    crew: Crew[bytes, bytes] = Crew([echo, echo])
    try:
        crew.hand_out(items, found.append)
        crew.returned()
    finally:
        crew.close()
    assert sorted(found) == items


@pytest.mark.parametrize("how", ["error", "killed"])
def test_a_process_that_fails_with_items_left_ends_the_run(how: str) -> None:
    before = psutil.Process().children()

    def fail(handed_out: Iterator[int], give: Callable[[int], None]) -> None:
        give(next(handed_out))
        if how == "killed":
            os.kill(os.getpid(), signal.SIGKILL)
        raise KeenHarborError("no room")

    crew: Crew[int, int] = Crew([fail, fail])
    try:
        with pytest.raises(KeenHarborError, match="no room" if how == "error" else "ended from outside"):
            crew.hand_out(itertools.count(1), lambda result: None)
    finally:
        crew.close()
    assert psutil.Process().children() == before


HANDS_OUT = """
import itertools, time
from keenharbor.store.apart import Crew
def work(handed_out, give):
    for item in handed_out:
        time.sleep(0.01)
        give(item)
Crew([work, work]).hand_out(itertools.count(1), lambda result: print("x", flush=True))
"""


def test_what_cannot_be_forced_to_disk_fails_the_run_that_went_on(
    tmp_path: Path, processes: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    make_tree(tmp_path / "site")
    kept, scan = Store.create(tmp_path / "store"), scan_tree(FileTree(str(tmp_path / "site")), WalkRules(AreaRules({})))

    def full(self: object) -> NoReturn:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(PackWriter, "seal", full)
    before = psutil.Process().children()
    with pytest.raises(OSError, match="No space left"), kept.writing(2) as writer:
        read_content(FileTree(str(tmp_path / "site")), scan, writer, {}, kept.has, lambda done, total: None)
    assert psutil.Process().children() == before
    assert not kept.pack_files()


def test_a_large_table_is_stored_by_another_process_as_by_this_one(tmp_path: Path, processes: None) -> None:
    rows = [(n, f"bean {n % 977} " * 40) for n in range(40_000)]  # some 18 MB
    with contextlib.closing(sqlite3.connect(tmp_path / "seeds.db")) as connection, connection:
        connection.execute("CREATE TABLE seeds (id INTEGER PRIMARY KEY, name TEXT)")
        connection.executemany("INSERT INTO seeds VALUES (?, ?)", rows)
    database = open_database(DatabasePlace("sqlite", tmp_path / "seeds.db"))
    stored, told = [], []
    for workers in (1, 2):
        kept = Store.create(tmp_path / f"store{workers}")
        seen: list[int] = []
        with kept.writing(workers) as writer, database.reading() as state:
            (made,) = store_state(state, writer, seen=lambda name, count, to=seen: to.append(count))  # type: ignore[misc]
            schema = state.schema
        stored.append((made, writer.added_objects))
        told.append(sum(seen))
        assert list(StoredState(schema, [made], kept.read).rows("seeds")) == rows
    assert stored[0] == stored[1]
    assert told[0] == told[1]


def test_what_fails_while_a_table_is_read_is_raised_and_leaves_no_process(tmp_path: Path) -> None:
    before = psutil.Process().children()

    def broken() -> Iterator[tuple[bytes, bytes]]:
        yield b"1\n", b""
        raise KeenHarborError("the database has gone")

    with pytest.raises(KeenHarborError, match="has gone"):
        feed(lambda messages: sum(len(m) for m, _ in messages), broken())
    with pytest.raises(KeenHarborError, match="no room"):
        feed(fail_at_once, ((b"x" * 100_000, b"") for _ in range(1000)))
    assert feed(lambda messages: sum(len(m) for m, _ in messages), [(b"abc", b""), (b"de", b"f")]) == 5
    assert psutil.Process().children() == before


def fail_at_once(messages: Iterator[tuple[bytes, bytes]]) -> int:
    next(messages)
    raise KeenHarborError("no room")


def test_a_process_that_waits_for_something_else_is_ended(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("keenharbor.store.apart._PATIENCE_SECONDS", 0.2)
    before = psutil.Process().children()

    def never(give: object) -> NoReturn:
        while True:
            time.sleep(60)

    def fail(give: object) -> NoReturn:
        raise KeenHarborError("no room")

    began = time.monotonic()
    with pytest.raises(KeenHarborError, match="no room"):
        share_out([never, fail], lambda result: None)
    assert time.monotonic() - began < 10
    assert psutil.Process().children() == before


@pytest.mark.parametrize("slow", ["neither", "sender", "receiver"])
def test_messages_of_every_size_arrive_as_they_were_sent(slow: str) -> None:
    """They lie in a few places of shared memory: none may be written anew before it is taken."""
    chance = random.Random(7)
    sizes = [(chance.randint(1, 600_000), chance.choice([0, 5, 300_000])) for _ in range(30)] + [(3_000_000, 7), (1, 0)]
    messages = [(chance.randbytes(first), chance.randbytes(second)) for first, second in sizes]

    def sent() -> Iterator[tuple[bytes, bytes]]:
        for message in messages:
            time.sleep(0.005 if slow == "sender" else 0)
            yield message

    def work(received: Iterator[tuple[bytes, bytes]]) -> list[tuple[bytes, bytes]]:
        found = []
        for message in received:
            time.sleep(0.005 if slow == "receiver" else 0)
            found.append(message)
        return found

    assert feed(work, sent()) == messages

"""What a merge costs, and whether it loses anything.

    python benchmarks/merging.py histories 10000 [--from 0]
    python benchmarks/merging.py rows 1000000 5000000 [changed 10000]

Histories: random schemas whose tables name each other in every way, random work on both sides, merged; what is lost,
what names nothing, what is not the same when it is done again is a fault (`tests/made_histories.py`).
Rows: a table of so many rows, of which 10,000 changed on one side, while the other side added a column and changed
others; stored, as a way back finds them. Seconds, and the most memory of the process (resident)."""

from __future__ import annotations

import collections
import contextlib
import random
import resource
import shutil
import sqlite3
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from keenharbor.database import DatabasePlace, StoredState, open_database, store_state
from keenharbor.merge.carry import carry_over
from keenharbor.merge.plan import MergePlan
from keenharbor.store import Store
from made_histories import faults, made_history, merged


def histories(count: int, first: int) -> None:
    folder = Path(tempfile.mkdtemp(prefix="histories-"))
    told: collections.Counter[str] = collections.Counter()
    bad = 0
    began = time.monotonic()
    for seed in range(first, first + count):
        history = made_history(folder, seed)
        after = folder / "after.db"
        shutil.copy(history.ours, after)
        with contextlib.ExitStack() as stack:
            base, theirs, ours = (
                stack.enter_context(open_database(DatabasePlace("sqlite", p)).reading()) for p in history.paths
            )
            result = merged(base, theirs, ours, DatabasePlace("sqlite", after))
            now = stack.enter_context(open_database(DatabasePlace("sqlite", after)).reading())
            if wrong := faults(base, theirs, ours, now, result):
                bad += 1
                print(f"history {seed}: {wrong[:3]}", flush=True)
        told.update(rows=result.rows, conflicts=len(result.conflicts), aside=len(result.aside),
                    new_numbers=sum(result.numbers.values()))  # fmt: skip
        for file in folder.iterdir():
            file.unlink()
    shutil.rmtree(folder)
    print(f"{count} histories, {bad} with a fault; {dict(told)}; {time.monotonic() - began:.0f} s")


def rows(count: int, changed: int) -> None:
    folder = Path(tempfile.mkdtemp(prefix="merging-", dir="/var/tmp"))
    chance = random.Random(5)
    words = ["kale", "leek", "bean", "pea", "beet", "rye", "oat", "vetch"]
    base = folder / "base.db"
    with contextlib.closing(sqlite3.connect(base)) as db, db:
        db.execute("CREATE TABLE orders (id INTEGER PRIMARY KEY, customer TEXT, state TEXT, note TEXT, amount INTEGER)")
        db.executemany(
            "INSERT INTO orders VALUES (?, ?, 'open', ?, ?)",
            ((n, f"{words[n % 8]} {n % 5000}", " ".join(chance.choices(words, k=9)), n % 997) for n in range(count)),
        )
    theirs, ours = folder / "theirs.db", folder / "ours.db"
    shutil.copy(base, theirs)
    shutil.copy(base, ours)
    part = max(1, count // changed)
    with contextlib.closing(sqlite3.connect(theirs)) as db, db:
        db.execute("UPDATE orders SET state = 'sent' WHERE id % ? = 3", (part,))
        db.execute("DELETE FROM orders WHERE id % ? = 5", (part * 100,))
        db.executemany("INSERT INTO orders VALUES (?, 'new', 'open', 'x', 1)", ((count + n,) for n in range(changed)))
    with contextlib.closing(sqlite3.connect(ours)) as db, db:
        db.execute("UPDATE orders SET amount = amount + 1 WHERE id % ? = 7", (part,))
    store = Store.create(folder / "store")
    states = []
    for path in (base, theirs, ours):
        with open_database(DatabasePlace("sqlite", path)).reading() as state, store.writing() as writer:
            earlier = states[0] if states else None
            states.append(StoredState(state.schema, store_state(state, writer, earlier), store.read))
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    began = time.monotonic()
    plan = MergePlan(*states)
    planned = time.monotonic() - began
    with open_database(DatabasePlace("sqlite", ours)).writing() as out:
        told = carry_over(plan, out)
    took = time.monotonic() - began
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    shutil.rmtree(folder)
    print(f"{count:>10,} rows, {told.rows:,} carried: {took:.1f} s (to plan {planned:.1f}), {peak:.0f} MiB (before the "
          f"merge, when the states were stored, {before:.0f})", flush=True)  # fmt: skip


def main() -> None:
    words = sys.argv[1:]
    numbers = [int(w) for w in words if w.isdigit()]
    if "histories" in words:
        first = int(words[words.index("--from") + 1]) if "--from" in words else 0
        histories(numbers[0] if numbers else 10_000, first)
        return
    changed = int(words[words.index("changed") + 1]) if "changed" in words else 10_000
    for count in [n for n in numbers if n != changed] or [1_000_000, 5_000_000]:
        rows(count, changed)


if __name__ == "__main__":
    main()

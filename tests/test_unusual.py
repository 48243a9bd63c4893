"""Damage that creeps in: told from two snapshots, and nothing is told of what a site does by itself."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from types import SimpleNamespace
from typing import cast

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import harbor, manifest_of, query
from keenharbor.database import StoredTable
from keenharbor.demo.scene import Scene
from keenharbor.snapshot import Snapshot
from keenharbor.snapshot.model import ListedTable
from keenharbor.snapshot.unusual import unusual
from keenharbor.store import Store
from keenharbor.tree import Entry

NO_STORE = cast("Store", SimpleNamespace(read=None))
AT = datetime(2026, 3, 1, tzinfo=UTC)


def counted(day: float, rows: int, entries: tuple[Entry, ...] = ()) -> Snapshot:
    at = AT + timedelta(days=day)
    table = ListedTable(StoredTable("orders"), rows)
    manifest = manifest_of(
        entries, (table,), identity=f"{at:%Y%m%d-%H%M%S}-{int(day * 100) % 65536:04x}", taken_at=at.isoformat()
    )
    return Snapshot(NO_STORE, manifest)


@given(st.lists(st.integers(0, 60), min_size=5, max_size=30), st.integers(50, 5000))
def test_a_table_that_goes_on_as_it_did_is_not_unusual(steps: list[int], first: int) -> None:
    rows, history = first, []
    for day, step in enumerate([*steps, max(steps)]):
        history.append(counted(day, rows))
        rows += step
    *earlier, before = history
    assert unusual(before, counted(len(history), rows), earlier) == []
    assert unusual(before, counted(len(history) + 2, rows + 2 * max(steps)), earlier) == []


def test_a_table_that_loses_or_gains_as_never_before_is_told() -> None:
    earlier = [counted(day, 1000 + 30 * day) for day in range(6)]
    lost = unusual(earlier[-1], counted(6, 700), earlier)
    assert [(u.kind, u.weight, u.count) for u in lost] == [("rows-lost", "damage", 450)]
    assert "lost 450 of 1,150 rows; never before" in lost[0].text
    grown = unusual(earlier[-1], counted(6, 9000), earlier)
    assert [(u.kind, u.weight) for u in grown] == [("rows-grown", "doubt")] and "30 a day at most before" in grown[
        0
    ].text
    assert unusual(earlier[-1], counted(6, 1145), earlier) == [], "a few rows go every day"
    pruned = [counted(day, 1000 if day % 2 else 400) for day in range(6)]
    assert unusual(pruned[-1], counted(6, 400), pruned) == [], "it is emptied regularly"
    gone = replace(counted(6, 0).manifest, database=manifest_of(()).database)
    assert [u.kind for u in unusual(earlier[-1], Snapshot(NO_STORE, gone), earlier)] == ["table-gone"]


def test_a_table_that_always_got_rows_and_gets_none_is_told() -> None:
    earlier = [counted(day, 100 + 12 * day) for day in range(9)]
    (found,) = unusual(earlier[-1], counted(9.0, 196), earlier)
    assert (found.kind, found.weight) == ("rows-still", "doubt") and "got 12 a day at least" in found.text
    assert unusual(earlier[-1], counted(8.4, 196), earlier) == [], "that early it says nothing"
    assert unusual(earlier[-1], counted(9.0, 197), earlier) == []
    weekends = [counted(day, 100 + 12 * (day - day // 7)) for day in range(15)]
    assert unusual(weekends[-1], counted(15, weekends[-1].manifest.database.tables[0].rows), weekends) == []
    assert unusual(earlier[3], counted(4.5, 136), earlier[:4]) == [], "too little is known"


def test_what_an_upgrade_did_to_a_table_is_no_measure_for_what_creeps_in() -> None:
    before = [counted(day, 1000 + day) for day in range(6)]
    arrival = replace(counted(6, 400).manifest, reason="after a cutover")
    found = unusual(Snapshot(NO_STORE, arrival), counted(7, 200), before)
    assert [u.kind for u in found] == ["rows-lost"], "the upgrade took 600 rows away; nobody else ever did"


PLANTED: dict[str, tuple[Callable[[Scene], object], str]] = {
    "a file of the core is changed": (lambda s: put(s.root / "core/rules.py", "# changed\n", append=True),
        "code-changed-core"),
    "a file of an extension is new": (lambda s: put(s.root / "extensions/seed-search/x.loam", "x"),
        "code-changed-extensions"),
    "code by its name": (lambda s: put(s.root / "media/a.php", "x"), "code-in-uploads"),
    "code under a picture's name": (lambda s: put(s.root / "media/b.png", "\n<?php system(1);"), "code-in-uploads"),
    "code behind a second ending": (lambda s: put(s.root / "media/c.phtml.jpg", "x"), "code-in-uploads"),
    "a file that anybody may write": (lambda s: (s.root / "core").chmod(0o777), "rights-wider"),
    "a file that runs as its owner": (lambda s: put(s.root / "media/d", "x").chmod(0o4755), "rights-wider"),
    "rows removed": (lambda s: query(s.database, "DELETE FROM loans WHERE id % 2"), "rows-lost"),
    "a table dropped": (lambda s: query(s.database, "DROP TABLE loans"), "table-gone"),
}  # fmt: skip


def put(file: Path, text: str, *, append: bool = False) -> Path:
    file.write_text((file.read_text() if append else "") + text)
    return file


@pytest.mark.parametrize("planted", PLANTED)
def test_each_planted_trouble_is_told(scene: Scene, planted: str) -> None:
    change, kind = PLANTED[planted]
    harbor(scene.folder, "snapshot", "take")
    assert "no earlier snapshot" in harbor(scene.folder, "snapshot", "diff", "--unusual").out
    put(scene.root / "media/leaf.txt", "a leaf\n")
    query(
        scene.database, "INSERT INTO loans SELECT NULL, card, packet, taken_on, returned_on FROM loans LIMIT 3"
    ) if _fits(scene.database) else None
    harbor(scene.folder, "snapshot", "take")
    assert harbor(scene.folder, "snapshot", "diff", "--unusual", "--json").json["unusual"] == []
    change(scene)
    harbor(scene.folder, "snapshot", "take")
    told = harbor(scene.folder, "snapshot", "diff", "--unusual", "--json", code=1).json["unusual"]
    assert [u["kind"] for u in told] == [kind], told
    text = harbor(scene.folder, "snapshot", "diff", "--unusual", code=1).out
    assert ("DAMAGE" in text) == (told[0]["weight"] == "damage") and told[0]["text"][:30] in " ".join(text.split())


def _fits(database: Path) -> bool:
    with sqlite3.connect(database) as connection:
        columns = [row[1] for row in connection.execute("PRAGMA table_info(loans)")]
    return columns == ["id", "card", "packet", "taken_on", "returned_on"]


def test_an_upgrade_by_hand_is_nothing_that_crept_in(scene: Scene) -> None:
    harbor(scene.folder, "snapshot", "take")
    described = scene.root / "extensions/seed-search"
    (found,) = [p for p in described.iterdir() if "version" in p.read_text(errors="replace")][:1]
    found.write_text(found.read_text().replace("1.4", "1.5"))
    put(described / "new.loam", "x")
    harbor(scene.folder, "snapshot", "take")
    told = harbor(scene.folder, "snapshot", "diff", "--unusual", "--json", code=None).json["unusual"]
    assert told == []
    assert "which two?" in harbor(scene.folder, "snapshot", "diff", code=2).err

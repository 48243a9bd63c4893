"""``snapshot``: list and show; what is told of each."""

from __future__ import annotations

import sys
from datetime import datetime

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.text import age, duration, plural, short_age, size, when
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.snapshotgroup import snapshot, what_for
from keenharbor.cli.terminal import say
from keenharbor.snapshot import Snapshot, find_snapshot, list_snapshots, unreadable_snapshots
from keenharbor.tree import Entry


@harbor_command(snapshot, name="list")
def list_command(session: Session) -> None:
    """List the site's snapshots, the newest first."""
    site = session.whereabouts()
    store = session.store(site)
    found = list_snapshots(store, site.name)
    unreadable = unreadable_snapshots(store, found)
    for identity in unreadable:  # beside the list, for programs as well: its document lists snapshots alone
        say(
            f"snapshot {identity} cannot be read: 'keenharbor snapshot show {identity}' says why",
            click.style("✗ ", fg="red"),
        )
    session.show([s.summary() for s in found], lambda out: _render_list(out, found, bool(unreadable)))


WIDE = 110
"""From so many columns on, a list shows more of each snapshot."""


def _render_list(out: Console, found: list[Snapshot], others: bool) -> None:
    if not found:
        if not others:
            out.print("There is no snapshot of this site yet.")
        show.next_step(out, "keenharbor snapshot take")
        return
    wide = out.width >= WIDE
    rows: list[tuple[str | Text, ...]] = []
    for item in found:
        proven = show.mark("proven") if item.proven else show.mark("not proven")
        what = what_for(item) + ("" if item.kept is None else "; kept" + (f": {item.kept}" if item.kept else ""))
        added, core = size(item.manifest.added_bytes), item.manifest.facts.core
        if wide:
            whole = item.manifest.file_bytes + item.manifest.database.bytes
            rows.append((item.id, age(item.taken_at), size(whole), added, core, proven, what))
        else:
            rows.append((item.id, short_age(item.taken_at), added, proven, what))
    if wide:
        columns: tuple[str, ...] = ("snapshot", "age", "size", "added", "core", "proof", "what for")
        show.table(out, columns, rows, right=(2, 3), keep=(0, 1, 4, 5))
    else:
        show.table(out, ("snapshot", "age", "added", "proof", "what for"), rows, right=(1, 2), keep=(0, 3))
    unproven = [s for s in found if not s.proven]
    if unproven and unproven[0] is found[0]:
        show.next_step(out, f"prove the newest: keenharbor snapshot drill {found[0].label or found[0].id}")


@harbor_command(snapshot, name="show")
@click.argument("wanted", metavar="SNAPSHOT", default="newest")
@click.option(
    "--paths",
    "below",
    is_flag=False,
    flag_value="",
    metavar="FOLDER",
    help="List the paths in it, or in a folder of it.",
)
@click.option("--tables", is_flag=True, help="List the tables in it.")
@click.option("--rows", "table", metavar="TABLE", help="List the rows of a table.")
@click.option("--file", "file", metavar="PATH", help="Write a file's content to standard output.")
@click.option("--find", "pattern", metavar="TEXT", help="Only paths or rows with this text.")
@click.option("--limit", type=click.IntRange(1), default=200, show_default=True, help="At most so many paths or rows.")
def show_command(
    session: Session, wanted: str, below: str | None, tables: bool, table: str | None, file: str | None,
    pattern: str | None,
    limit: int,
) -> None:  # fmt: skip
    """Show one snapshot, and browse what is in it.

    By id, the beginning of one, label, or "newest"."""
    from keenharbor.snapshot.browse import paths_in, rows_in, write_content

    site = session.whereabouts()
    found = find_snapshot(session.store(site), wanted, site.name)
    if file is not None:
        write_content(found, file.strip("/"), sys.stdout.buffer)
        return
    told = found.summary()
    if below is not None:
        listed = paths_in(found, below.strip("/"), pattern)
        told["paths"] = [
            {"path": e.path, "kind": e.kind, "size": e.size, "area": e.area, "mode": f"{e.mode:04o}"}
            for e in listed[:limit]
        ]
        told["paths_in_all"] = len(listed)
    if tables:
        told["table_rows"] = {t.name: t.row_count for t in found.state.tables.values()}
    if table is not None:
        columns, rows = rows_in(found, table, pattern, limit)
        told["rows"] = [
            {c: v.hex() if isinstance(v, bytes) else v for c, v in zip(columns, row, strict=True)} for row in rows
        ]

    def render(out: Console) -> None:
        if tables or (below is None and table is None):
            _render_one(out, found, tables)
        if below is not None:
            _render_paths(out, found, listed, limit, below)
        if table is not None:
            show.heading(out, f"{table}: {plural(found.state.tables[table].row_count, 'row')}")
            most = max(12, out.width // max(1, len(columns)) - 2)
            show.table(out, columns, [[show.cell(v, most) for v in row] for row in rows], keep=())
            if len(rows) == limit:
                out.print(Text("and perhaps more (--limit N, --find TEXT)", style="dim"))

    session.show(told, render)


def _render_paths(out: Console, found: Snapshot, listed: list[Entry], limit: int, below: str) -> None:
    total = sum(e.size for e in listed)
    show.heading(out, f"{below or 'Everything'} in {found.id}: {plural(len(listed), 'path')}, {size(total)}")
    rows = []
    for e in listed[:limit]:
        shown = e.path.encode("utf-8", "surrogateescape").decode("utf-8", "replace")
        shown += f" → {e.target}" if e.kind == "link" else "/" if e.kind == "folder" else ""
        written = datetime.fromtimestamp(e.mtime_ns / 1e9)
        rows.append(
            (shown, e.area, f"{e.mode:04o}", f"{written:%Y-%m-%d %H:%M}", size(e.size) if e.kind == "file" else "")
        )
    show.table(out, ("path", "area", "mode", "written", "size"), rows, right=(4,), keep=(1, 2, 3))
    if len(listed) > limit:
        out.print(Text(f"and {len(listed) - limit} more (--limit N, --find TEXT, --paths FOLDER)", style="dim"))


def _render_one(out: Console, found: Snapshot, tables: bool) -> None:
    facts = found.summary()
    title = found.manifest.title or found.site
    out.print(Text(f"Snapshot {found.id}", style="bold"), Text(f"of {title}", style="dim"))
    proof = max(found.proofs, key=lambda p: p.at, default=None)
    proven = Text("no: it was never restored")
    if proof is not None and proof.good:
        proven = Text(f"by {proof.how}, {when(proof.at)}; it took {duration(proof.seconds)}")
    elif proof is not None:
        proven = Text(f"no: it did not come up in {proof.how}, {when(proof.at)}: {proof.detail}")
    told = [(k, Text(str(facts[k]))) for k in ("label", "comment", "reason") if facts[k]]
    kept = [("kept", Text(found.kept or "yes"))] if found.kept is not None else []
    show.pairs(out, [("taken", Text(when(found.taken_at))), *told, *facts_of(facts), ("proven", proven), *kept])
    tell_left_out(out, facts)
    areas: dict[str, list[int]] = {}
    for e in found.entries.values():
        if e.kind == "file":
            areas.setdefault(e.area, []).append(e.size)
    left = show.made_table(
        ("area", "files", "size"),
        [(a, f"{len(s):,}", size(sum(s))) for a, s in sorted(areas.items(), key=lambda i: -sum(i[1]))], right=(1, 2),
    )  # fmt: skip
    stored = sorted(found.state.tables.values(), key=lambda t: -t.row_count)
    shown = stored if tables else stored[:10]
    right = show.made_table(
        ("table", "rows", "size"), [(t.name, f"{t.row_count:,}", size(t.size)) for t in shown], right=(1, 2)
    )
    out.print()
    show.beside(out, left, right)
    if len(stored) > len(shown):
        out.print(Text(f"and {len(stored) - len(shown)} more tables (--tables)", style="dim"))
    show.next_step(out, f"browse it: keenharbor snapshot show {found.id} --paths, or --rows TABLE")


def facts_of(facts: dict[str, object]) -> list[tuple[str, Text]]:
    def number(key: str) -> int:
        value = facts[key]
        assert isinstance(value, int)
        return value

    return [
        ("files", Text(f"{plural(number('files'), 'file')}, {size(number('file_bytes'))}")),
        ("database", Text(f"{plural(number('tables'), 'table')}, {plural(number('rows'), 'row')}")),
        ("versions", Text(f"core {facts['core']}, {facts['runtime']}")),
        ("added", Text(f"{size(number('added_bytes'))} to the store, in {facts['seconds']} s")),
    ]


def tell_left_out(out: Console, facts: dict[str, object]) -> None:
    for key, words in (
        ("areas_left_out", "areas left out"), ("unreadable", "could not be read"),
        ("unstable", "kept changing while read"),
        ("too_large", "too large, not taken"), ("left_empty", "tables without their rows"), ("not_kept", "not kept"),
        ("left_out", "left out by rule"),
    ):  # fmt: skip
        listed = facts[key]
        if isinstance(listed, list) and listed:
            weight = "note" if key == "left_out" else "caution"
            listed = _by_folder(listed) if key == "left_out" else listed
            more = f" and {len(listed) - 5} more" if len(listed) > 5 else ""
            out.print(show.said(weight, f"{words}: {', '.join(map(str, listed[:5]))}{more}"))


def _by_folder(paths: list[str]) -> list[str]:
    """Paths, those of one folder taken together: a cache has thousands."""
    folders: dict[str, list[str]] = {}
    for path in paths:
        folders.setdefault(path.rpartition("/")[0], []).append(path)
    return [
        f"{f}/ ({plural(len(found), 'file')})" if len(found) > 1 and f else ", ".join(found)
        for f, found in folders.items()
    ]

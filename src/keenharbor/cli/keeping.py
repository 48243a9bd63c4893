"""``snapshot keep``, ``unkeep``, ``thin``, ``usage``, ``diff``: what is kept, and what it takes."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.errors import UsageError
from keenharbor.base.text import age, plural, size
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.quantities import BYTES, DURATION
from keenharbor.cli.snapshotgroup import snapshot, what_for
from keenharbor.database import TableDelta, row_delta
from keenharbor.site.log import append_log
from keenharbor.snapshot import find_snapshot, list_snapshots
from keenharbor.snapshot.keeping import (
    SiteUsage,
    ThinPlan,
    ThinRules,
    Usage,
    keep,
    plan_thinning,
    site_usage,
    thin,
    unkeep,
    usage,
)
from keenharbor.store import Store
from keenharbor.tree import compare_trees


@harbor_command(snapshot, name="keep")
@click.argument("wanted", metavar="SNAPSHOT")
@click.option("--because", "why", help="Why, in your words.")
def keep_command(session: Session, wanted: str, why: str | None) -> None:
    """Never thin SNAPSHOT out, whatever the rules say."""
    site = session.whereabouts()
    found = find_snapshot(session.store(site), wanted, site.name)
    keep(found, why)
    append_log(site.work, site.name, "snapshot keep", "done", why or "", found.id)
    session.show(
        {"snapshot": found.id, "kept": why or ""},
        lambda out: show.headline(out, "done", f"snapshot {found.id}, {age(found.taken_at)}, is kept"),
    )


@harbor_command(snapshot, name="unkeep")
@click.argument("wanted", metavar="SNAPSHOT")
def unkeep_command(session: Session, wanted: str) -> None:
    """Let the rules decide about SNAPSHOT again."""
    site = session.whereabouts()
    found = find_snapshot(session.store(site), wanted, site.name)
    unkeep(found)
    append_log(site.work, site.name, "snapshot unkeep", "done", "", found.id)
    session.show(
        {"snapshot": found.id, "kept": None},
        lambda out: show.headline(out, "done", f"snapshot {found.id} may be thinned out again"),
    )


@harbor_command(snapshot, name="thin")
@click.option("--newest", type=click.IntRange(0), default=0, help="Let so many of the newest stay.")
@click.option("--younger-than", type=DURATION, help="Let all younger ones stay: 36h, 14d, 8w.")
@click.option("--daily", type=click.IntRange(0), default=0, help="Let the newest of each of so many days stay.")
@click.option("--weekly", type=click.IntRange(0), default=0, help="The same by weeks.")
@click.option("--monthly", type=click.IntRange(0), default=0, help="The same by months.")
@click.option("--total", type=BYTES, help="Let the oldest go until the store takes at most this: 20G.")
@click.option(
    "--give-up", multiple=True, metavar="ID", help="Let this snapshot go, which cannot be read. Can be repeated."
)
@click.option("--yes", is_flag=True, help="Do it without asking.")
@click.option("--preview", is_flag=True, help="Only show what would go.")
def thin_command(
    session: Session, newest: int, younger_than: timedelta | None, daily: int, weekly: int, monthly: int,
    total: int | None,
    give_up: tuple[str, ...], yes: bool, preview: bool,
) -> None:  # fmt: skip
    """Remove old snapshots and the space that only they take. Shows first what would go.

    A snapshot stays when any rule says so. The newest proven one, kept ones, and those that a trial, a clone or an open
    change needs stay in any case. Without a rule, only what killed runs left behind goes."""
    from keenharbor.live.journal import exclusive
    from keenharbor.live.needed import needed_snapshots

    site = session.site()
    store = session.store(site)
    rules = ThinRules(newest, younger_than, daily, weekly, monthly, total)
    with exclusive(site):
        plan = plan_thinning(store, site.name, rules, needed_snapshots(site), give_up)
        if preview or not (plan.go or plan.given_up or plan.frees):
            session.show({**plan.as_json(), "done": False}, lambda out: _render_thin(out, plan, None))
            return
        if not session.as_json and not yes:
            _render_thin(session.out, plan, None)
        session.confirm(f"{plural(plan.going, 'snapshot')} will be removed for good.", yes)
        freed = thin(store, plan, session.progress, site.model.snapshot.level)
        append_log(
            site.work, site.name, "snapshot thin", "done",
            f"{plan.going} removed, {size(freed)} freed: {', '.join([s.id for s in plan.go] + list(plan.given_up))}"[
                :300],
        )  # fmt: skip
    session.show({**plan.as_json(), "done": True, "freed_bytes": freed}, lambda out: _render_thin(out, plan, freed))


def _render_thin(out: Console, plan: ThinPlan, freed: int | None) -> None:
    if freed is not None:
        show.headline(out, "done", f"{plural(plan.going, 'snapshot')} removed, {size(freed)} freed")
        return
    rows = [(show.mark("note", "stays"), s.id, age(s.taken_at), what_for(s), why) for s, why in plan.stay]
    rows += [(show.mark("failed", "goes"), s.id, age(s.taken_at), what_for(s), "") for s in plan.go]
    rows += [(show.mark("failed", "goes"), name, "", "", "cannot be read") for name in plan.given_up]
    if rows:
        show.table(out, ("", "snapshot", "age", "what for", "why"), rows, keep=(0, 1, 2))
    out.print()
    if plan.leftovers > 0:
        out.print(
            Text(
                f"{size(plan.leftovers)} belong to no snapshot (left behind by runs that were killed, or by thinning)."
            )
        )
    if plan.too_large_still:
        out.print(show.said("caution", f"what has to stay takes {size(plan.too_large_still)} more than --total allows"))
    out.print(Text(f"{plural(plan.going, 'snapshot')} would go; about {size(plan.frees)} would be freed."))
    if plan.going:
        show.next_step(out, "the same command with --yes does it")


@harbor_command(snapshot, name="usage")
def usage_command(session: Session) -> None:
    """Show what fills the store (by snapshot, by area and table, by site) and the site itself."""
    site = session.site()
    store = session.store(site)
    told = usage(store, site.name)
    live = site_usage(site)
    whole = {**told.as_json(), "site": live.as_json()}
    session.show(whole, lambda out: _render_usage(out, told, live, str(store.folder)))


def _render_usage(out: Console, told: Usage, live: SiteUsage, folder: str) -> None:
    ratio = f", for {size(told.plain_bytes)} of files and rows" if told.plain_bytes else ""
    out.print(Text(f"{size(told.total)} in {folder}{ratio}", style="bold"))
    out.print()
    parts = [
        ("objects", size(told.packs)),
        ("manifests, indexes", size(told.documents)),
        ("left over", size(told.leftovers)),
    ]
    show.pairs(out, [(name, Text(value)) for name, value in parts])
    if told.snapshots:
        show.heading(out, "Snapshots")
        rows = [
            (s.snapshot.id, age(s.snapshot.taken_at), size(s.alone), size(s.whole), what_for(s.snapshot))
            for s in told.snapshots
        ]
        show.table(
            out, ("snapshot", "age", "only its own", "all it needs", "what for"), rows, right=(2, 3), keep=(0, 1)
        )
    show.heading(out, "What fills it")
    most = max(told.content.values(), default=1) or 1
    width = max(10, min(40, out.width - 46))
    rows_content = [
        (what, size(b), "█" * round(width * b / most) or "▏") for what, b in list(told.content.items())[:12]
    ]
    show.table(out, ("content", "size", ""), rows_content, right=(1,), keep=(2,))
    rest = list(told.content.values())[12:]
    if rest:
        out.print(Text(f"and {plural(len(rest), 'more table')}, {size(sum(rest))} together", style="dim"))
    show.heading(out, "The site itself")
    parts_live = [*live.areas.items(), ("database", live.database)]
    areas = show.made_table(("area", "size"), [(a, size(b)) for a, b in parts_live], right=(1,))
    largest = show.made_table(("largest files", "size"), [(p, size(b)) for p, b in live.largest], right=(1,))
    show.beside(out, areas, largest)
    if len(told.sites) > 1:
        show.heading(out, "Sites in this store")
        show.table(out, ("site", "all it needs"), [(n, size(b)) for n, b in told.sites.items()], right=(1,))
    if told.leftovers > told.packs // 10:
        show.next_step(out, "keenharbor snapshot thin --preview")


@harbor_command(snapshot, name="diff")
@click.argument("left", metavar="EARLIER", required=False)
@click.argument("right", metavar="LATER", default="newest")
@click.option(
    "--unusual", "only_unusual", is_flag=True, help="Only tell what is out of the ordinary (EARLIER: the one before)."
)
@click.option("--rows", "tables", multiple=True, metavar="TABLE", help="Show the rows of TABLE that differ.")
@click.option("--all", "everything", is_flag=True, help="List every path, not the first twenty of a kind.")
def diff_command(
    session: Session, left: str | None, right: str, only_unusual: bool, tables: tuple[str, ...], everything: bool
) -> int:
    """Show how two snapshots differ: files, definitions, rows. Reads only what differs.

    With --unusual what creeps in and no page shows: code that changed with no upgrade, code in folders of uploads,
    wider rights, tables that lost or gained as never before.

    Exit code 0: they are the same; 1: they differ."""
    site = session.whereabouts()
    store = session.store(site)
    if only_unusual:
        return _unusual(session, store, site.name, left, right)
    if left is None:
        raise UsageError("which two?", advice="keenharbor snapshot diff EARLIER LATER; 'snapshot list' shows them")
    a, b = find_snapshot(store, left, site.name), find_snapshot(store, right, site.name)
    files = compare_trees(a.entries, b.entries)
    rows = row_delta(a.state, b.state)
    told: dict[str, object] = {
        "earlier": a.id, "later": b.id,
        "files": {"added": files.added, "removed": files.removed, "changed": files.changed, "modes": files.modes},
        "definitions": {
            "added": rows.definitions_added, "removed": rows.definitions_removed, "changed": rows.definitions_changed,
        },
        "tables": {
            n: {"added": len(d.added), "removed": len(d.removed), "changed": len(d.changed)} for n,
            d in rows.tables.items()
        },
        "rows": {n: _rows_json(rows.tables[n]) for n in tables if n in rows.tables},
    }  # fmt: skip

    def render(out: Console) -> None:
        out.print(Text.assemble(("From ", "dim"), f"{a.id} ({what_for(a)}, {age(a.taken_at)})"))
        out.print(Text.assemble(("to   ", "dim"), f"{b.id} ({what_for(b)}, {age(b.taken_at)})"))
        if not files and not rows:
            show.headline(out, "good", "the two hold the same")
            return
        words = ("added", "removed", "changed", "other rights")
        definitions = (rows.definitions_added, rows.definitions_removed, rows.definitions_changed)
        for title, listed in (
            ("Files", (files.added, files.removed, files.changed, files.modes)), ("Definitions", definitions),
        ):  # fmt: skip
            if any(listed):
                show.heading(out, title)
                for word, names in zip(words, listed, strict=False):
                    _paths(out, word, names, everything)
        if rows.tables:
            show.heading(out, "Rows")
            counted = [(n, str(len(d.added)), str(len(d.removed)), str(len(d.changed))) for n, d in rows.tables.items()]
            show.table(out, ("table", "added", "removed", "changed"), counted, right=(1, 2, 3))
        for name in tables:
            if name in rows.tables:
                _render_rows(out, name, rows.tables[name])
        if rows.tables and not tables:
            show.next_step(out, f"keenharbor snapshot diff {a.id} {b.id} --rows {next(iter(rows.tables))}")

    session.show(told, render)
    return 1 if files or rows else 0


def _unusual(session: Session, store: Store, site: str, left: str | None, right: str) -> int:
    from keenharbor.snapshot.unusual import unusual

    later = find_snapshot(store, right, site)
    known = [s for s in list_snapshots(store, site) if s.taken_at < later.taken_at]
    if left is None and not known:
        session.show(
            {"earlier": None, "later": later.id, "unusual": []},
            lambda out: show.headline(out, "done", "there is no earlier snapshot to hold it against"),
        )
        return 0
    earlier = find_snapshot(store, left, site) if left is not None else known[0]
    found = unusual(earlier, later, known)

    def render(out: Console) -> None:
        words = f"{later.id}, {age(later.taken_at)}, against {earlier.id}"
        if not found:
            show.headline(out, "good", f"nothing unusual in {words}")
            return
        worst = "damage" if any(u.weight == "damage" for u in found) else "doubt"
        first = found[0].text + (f", and {plural(len(found) - 1, 'more thing')}" if found[1:] else "")
        show.headline(out, worst, first)
        for item in found:
            out.print(show.said(item.weight, item.text))
            for path in item.examples[:5]:
                out.print(Text(f"    {_printable(path)}", style="dim"))
            if item.count > 5 and item.examples:
                out.print(Text(f"    and {item.count - 5} more", style="dim"))
        out.print(Text(f"in {words}", style="dim"))
        show.next_step(out, f"keenharbor snapshot diff {earlier.id} {later.id}")

    told = {"earlier": earlier.id, "later": later.id, "unusual": [u.as_json() for u in found]}
    session.show(told, render)
    return 1 if found else 0


def _paths(out: Console, word: str, paths: Sequence[str], everything: bool) -> None:
    shown = paths if everything else paths[:20]
    rows = [(Text(word, style="dim"), _printable(p)) for p in shown]
    if rows:
        show.table(out, ("", ""), rows, keep=(0,))
    if len(paths) > len(shown):
        out.print(Text(f"and {len(paths) - len(shown)} more (--all lists them)", style="dim"))


def _printable(path: str) -> str:
    return path.encode("utf-8", "surrogateescape").decode("utf-8", "replace")


def _rows_json(delta: TableDelta) -> dict[str, object]:
    def plain(row: Sequence[object], columns: Sequence[str]) -> dict[str, object]:
        return {c: v.hex() if isinstance(v, bytes) else v for c, v in zip(columns, row, strict=True)}

    return {
        "added": [plain(r, delta.columns_right) for r in delta.added],
        "removed": [plain(r, delta.columns_left) for r in delta.removed],
        "changed": [
            {"before": plain(x, delta.columns_left), "after": plain(y, delta.columns_right)} for x, y in delta.changed
        ],
    }


def _render_rows(out: Console, name: str, delta: TableDelta) -> None:
    show.heading(out, f"Rows of {name}")
    lines: list[tuple[Text, str, str]] = []
    for word, columns, rows in (("+", delta.columns_right, delta.added), ("-", delta.columns_left, delta.removed)):
        lines += [(Text(word), _key(delta, columns, r), show.cells(r)) for r in rows]
    for before, after in delta.changed:
        told = []
        for column in delta.shared:
            x, y = before[delta.columns_left.index(column)], after[delta.columns_right.index(column)]
            if x != y:
                told.append(f"{column}: {show.cell(x)} → {show.cell(y)}")
        lines.append((Text("~"), _key(delta, delta.columns_left, before), "; ".join(told)))
    show.table(out, ("", "key", "values"), lines[:200], keep=(0,))
    if len(lines) > 200:
        out.print(Text(f"and {len(lines) - 200} more (--json lists them)", style="dim"))


def _key(delta: TableDelta, columns: Sequence[str], row: Sequence[object]) -> str:
    if len(delta.key) == len(columns):
        return ""
    return ", ".join(show.cell(row[columns.index(k)]) for k in delta.key if k in columns)

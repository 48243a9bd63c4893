"""``rollback``"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.errors import UsageError
from keenharbor.base.text import age, duration, plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.live.journal import refuse_running
from keenharbor.live.rollback import (
    Merged,
    RollbackResult,
    Wishes,
    default_way,
    look_at_way,
    refuse_undecided,
    rehearse_way,
    run_rollback,
    seconds_in_trial,
    ways_to,
)
from keenharbor.live.undone import Undone, UndoneResult, look_at_undone, rehearse_undone, step_undone, undo_step
from keenharbor.live.ways import WayBack, close_ways
from keenharbor.merge.carry import TableCount
from keenharbor.merge.model import Side
from keenharbor.site.log import append_log
from keenharbor.snapshot import find_snapshot
from keenharbor.trial.result import WayBackTried

_SIDES: Mapping[str, Side] = {"live": "theirs", "snapshot": "ours"}
_MOST_SHOWN = 8


@harbor_command(name="rollback")
@click.argument("wanted", metavar="[SNAPSHOT]", required=False)
@click.option("--look", is_flag=True, help="Only show what would be carried over, and what both sides changed.")
@click.option("--prefer", type=click.Choice(list(_SIDES)), help="Who wins where both sides changed the same.")
@click.option(
    "--without", multiple=True, metavar="TABLE[.COLUMN]", help="What was done to it since does not come along."
)
@click.option("--only", metavar="STEP", help="Take back this step of the cutover alone; the rest of it stays.")
@click.option("--rehearse", is_flag=True, help="Go back on a clone, with what people did since, and look at it.")
@click.option("--close", is_flag=True, help="Give up the way back: its snapshots may be thinned out.")
@click.option("--yes", is_flag=True, help="Do not ask.")
def rollback(
    session: Session, wanted: str | None, look: bool, prefer: str | None, without: tuple[str, ...], only: str | None,
    rehearse: bool, close: bool, yes: bool,
) -> int:  # fmt: skip
    """Go back to before the last cutover (or to SNAPSHOT), with what people did since.

    Rows of all tables that were added, changed or removed since the cutover's end come along, cell by cell, and files
    that are no code. What has no place in the old site, and what both the upgrade and somebody since then changed, is
    saved beside the log; the whole state before is kept as a snapshot."""
    site = session.site()
    refuse_running(site)
    store = session.store(site)
    wishes = Wishes(_SIDES[prefer] if prefer else None, without)
    if close:
        if wanted or look or prefer or without or rehearse or only:
            raise UsageError("--close stands alone")
        return _close(session)
    if only:
        if wanted:
            raise UsageError("--only takes back a step of the last cutover: no snapshot is named with it")
        return _only(session, only, wishes, look=look, rehearse=rehearse, yes=yes)
    target = find_snapshot(store, wanted, site.name) if wanted else default_way(site, store).target
    ways = ways_to(site, store, target)
    if rehearse:
        if len(ways) > 1:
            raise UsageError(
                f"it leads over {plural(len(ways), 'cutover')}: only the way back over the last can be rehearsed",
                advice="keenharbor rollback --rehearse",
            )
        tried = rehearse_way(site, store, ways[0], session.feed(site), session.progress, wishes)
        detail = f"{target.id}: {tried.told}"
        append_log(site.work, site.name, "rollback rehearse", "good" if tried.works else "failed", detail, target.id)
        session.show(asdict(tried), lambda out: _render_rehearsed(out, tried))
        return 0 if tried.works else 1
    merged = look_at_way(site, ways[0], wishes)
    if look:
        seconds = seconds_in_trial(site, ways[0])
        told = _as_json(ways, merged) | {"seconds_in_trial": seconds}
        session.show(told, lambda out: _render_look(out, ways, merged, seconds))
        return 0
    refuse_undecided(site, merged, wishes)
    for words in _suspicions(merged):
        session.progress.note(words)
    over = f" (over {plural(len(ways), 'cutover')}, one behind the other)" if len(ways) > 1 else ""
    session.confirm(
        f"The live site {site.told_address} will go from core {site.told_versions()[0]} back to core "
        f"{target.manifest.facts.core}, "
        f"snapshot {target.id} ({age(target.taken_at)}){over}, carrying over {merged.told()}.", yes,
    )  # fmt: skip
    results = [run_rollback(site, store, way, session.progress, wishes) for way in ways]
    told = results[-1].as_json() | {"on_the_way": [r.as_json() for r in results[:-1]]}
    session.show(told, lambda out: _render_all(out, results, [age(way.target.taken_at) for way in ways]))
    return 0


def _only(session: Session, name: str, wishes: Wishes, *, look: bool, rehearse: bool, yes: bool) -> int:
    site = session.site()
    store = session.store(site)
    with step_undone(site, store, name, session.progress) as undone:
        merged = look_at_undone(site, undone, wishes)
        told = {
            "step": name,
            "goes_back": {"files": undone.files, "tables": {t: undone.rows.get(t, 0) for t in undone.tables},
                "definitions": sorted(undone.definitions)}, **_carried_json(merged),
        }  # fmt: skip
        if look:
            session.show(told, lambda out: _render_only(out, undone, merged))
            return 0
        refuse_undecided(site, merged, wishes)
        rehearse_undone(site, store, undone, session.feed(site), session.progress, wishes)
        if rehearse:
            words = f"without step '{name}' a clone of live is as good as with it"
            session.show(told | {"works": True}, lambda out: show.headline(out, "good", words))
            return 0
        session.confirm(
            f"Step '{name}' is taken back on the live site {site.told_address}: {_extent(undone)}; what changed there "
            "since stays.", yes,
        )  # fmt: skip
        result = undo_step(site, store, undone, session.progress, wishes)
    session.show(result.as_json(), lambda out: _render_undone(out, result))
    return 0


def _extent(undone: Undone) -> str:
    parts = [(len(undone.files), "file"), (len(undone.tables), "table")]
    return " and ".join(plural(n, word) for n, word in parts if n) or "definitions"


def _render_only(out: Console, undone: Undone, merged: Merged) -> None:
    out.print(Text.assemble((f"Step {undone.name} ", "bold"), f"of trial {undone.trial}, taken back alone"))
    paths = undone.files
    if paths:
        show.heading(out, "Files that go back")
        out.print(show.said("note", ", ".join(paths[:8]) + (f" and {len(paths) - 8} more" if paths[8:] else "")))
    if undone.tables:
        show.heading(out, "Tables in which its own work goes back; all else in them stays as it is")
        rows = [
            (t, f"{undone.rows.get(t, 0):,}", "goes back" if f"table {t}" in undone.definitions else "stays")
            for t in sorted(undone.tables)
        ]
        show.table(out, ("table", "rows of the step", "definition"), rows, right=(1,), keep=(0, 1, 2))
    others = sorted(d for d in undone.definitions if not d.startswith("table "))
    if others:
        out.print(show.said("note", f"goes back, too: {', '.join(others)}"))
    _render_conflicts(out, merged.conflicts)
    for aside in merged.rows.aside[:_MOST_SHOWN]:
        out.print(show.said("note", f"saved beside the log: {aside.table} {_key(aside.key)}: {aside.reason}"))
    _more(out, len(merged.rows.aside))
    out.print(Text("\nNothing was changed. It is rehearsed on a clone before live is.", style="dim"))
    show.next_step(out, f"keenharbor rollback --only {undone.name}")


def _render_undone(out: Console, result: UndoneResult) -> None:
    show.headline(out, "done", f"step {result.step} is taken back on {result.site}")
    rows = "; ".join(f"{plural(n, 'row')} of {t}" for t, n in sorted(result.rows.items()) if n)
    show.pairs(out, [
        ("gone back", Text(f"{plural(result.files, 'file')}, {plural(len(result.tables), 'table')}"
                           f"{': ' + rows if rows else ''}")),
        *([("both changed", Text(plural(len(result.conflicts), "time"), style="yellow"))] if result.conflicts else []),
        ("not carried", Text(plural(result.aside, "change") if result.aside else "nothing")),
        *([("saved in", Text(result.aside_file))] if result.aside_file else []),
        ("before this", Text(f"snapshot {result.safety} holds all of it")),
    ])  # fmt: skip
    for remark in result.remarks:
        out.print(show.said("caution", remark))
    _render_conflicts(out, result.conflicts)
    show.next_step(out, "look at the site; the way back over the whole cutover stays open")


def _close(session: Session) -> int:
    site = session.site()
    closed = close_ways(site, session.store(site))
    words = f"{plural(len(closed), 'way')} back given up" if closed else "there was no way back to give up"
    session.show({"closed": [s.id for s in closed]}, lambda out: show.headline(out, "done", words))
    return 0


def _render_rehearsed(out: Console, tried: WayBackTried) -> None:
    show.headline(out, "good" if tried.works else "failed", tried.told)
    for table, count in sorted(tried.carried.items()):
        out.print(show.said("note", TableCount(count["new"], count["changed"], count["removed"]).told(table)))
    show.next_step(out, "keenharbor rollback" if tried.works else "keenharbor rollback --look")


def _as_json(ways: Sequence[WayBack], merged: Merged) -> dict[str, object]:
    return {"target": ways[-1].target.id, "cutovers": len(ways), "exact": merged.exact} | _carried_json(merged)


def _carried_json(merged: Merged) -> dict[str, object]:
    rows = merged.rows
    return {
        "carried": {t: c.as_json() for t, c in rows.carried.items()}, "examples": rows.examples,
        "changed_alike": {c: asdict(a) for c, a in rows.alike.items() if a.suspicious},
        "files": merged.files_json(), "conflicts": merged.conflicts, "renumbered": rows.numbers,
        "inferred": rows.inferred, "aside": [asdict(a) for a in rows.aside], "elsewhere": rows.elsewhere,
    }  # fmt: skip


def _render_look(out: Console, ways: Sequence[WayBack], merged: Merged, seconds: float | None) -> None:
    target = ways[-1].target
    out.print(Text.assemble(
        ("The way back ", "bold"), f"to core {target.manifest.facts.core}, snapshot {target.id}, {age(target.taken_at)}"
    ))  # fmt: skip
    if len(ways) > 1:
        out.print(
            show.said("note", f"it leads over {plural(len(ways), 'cutover')}; shown is what the first would carry")
        )
    if not merged.exact:
        why = (
            "what people did since cannot be told from the rest: live has gone this way already, or its arrival was "
            "not saved"
        )
        out.print(show.said("caution", f"{why}; only new rows of the tables under [visitor_data] come along"))
    _render_rows(out, merged)
    _render_files(out, merged)
    _render_conflicts(out, merged.conflicts)
    if merged.rows.aside:
        left = sum(a.why == "left out" for a in merged.rows.aside)
        told = f", {left:,} of them left out as asked" if left else ""
        show.heading(
            out, f"Not in the old site, saved beside the log: {plural(len(merged.rows.aside), 'change')}{told}"
        )
        for aside in merged.rows.aside[:_MOST_SHOWN]:
            out.print(show.said("note", f"{aside.table} {_key(aside.key)}: {aside.reason}"))
        _more(out, len(merged.rows.aside))
    for line in merged.rows.elsewhere:
        out.print(show.said("note", f"goes with the way back: {line}"))
    for line in merged.rows.inferred:
        out.print(show.said("note", f"taken from the data: {line}"))
    tried = f" In its trial the way back took {duration(seconds)}." if seconds is not None else ""
    out.print(Text(f"\nNothing was changed.{tried}", style="dim"))
    leave = "".join(f" --without {c}" for c, a in merged.rows.alike.items() if a.suspicious)
    show.next_step(out, "keenharbor rollback" + (f", or keenharbor rollback{leave}" if leave else ""))


def _render_rows(out: Console, merged: Merged) -> None:
    if not merged.rows.carried:
        out.print("No row was written since then that would have to be carried over.")
        return
    show.heading(out, "Rows that come along")
    rows = []
    for table, count in sorted(merged.rows.carried.items()):
        examples = merged.rows.examples.get(table, [])
        of_each = [next((e for e in examples if e.startswith(k)), "") for k in ("added", "changed", "removed")]
        rows.append((table, *_numbers(count), "; ".join(e for e in of_each if e)))
    show.table(out, ("table", "new", "changed", "removed", "for example"), rows, right=(1, 2, 3), keep=(0, 1, 2, 3))
    for words in _suspicions(merged):
        out.print(show.said("caution", words))


def _suspicions(merged: Merged) -> list[str]:
    """Cells that changed all in one way, as a program does it: it may be what one goes back for."""
    return [
        f"{column} changed from {show.cell(alike.before, 20)} to {show.cell(alike.after, 20)} in "
        f"{plural(alike.rows, 'row')}: if that was no person's doing, add --without {column}"
        for column, alike in merged.rows.alike.items() if alike.suspicious
    ]  # fmt: skip


def _numbers(count: TableCount) -> tuple[str, str, str]:
    added, changed, removed = (f"{n:,}" if n else "" for n in (count.added, count.changed, count.removed))
    return added, changed, removed


def _render_files(out: Console, merged: Merged) -> None:
    files = merged.files_json()
    words = {"added": "came since", "changed": "changed since", "removed": "removed since",
             "merged": "put together from both sides", "left": "go back with the code, edited since"}  # fmt: skip
    if files:
        show.heading(out, "Files")
    for kind, paths in files.items():
        shown = ", ".join(paths[:4]) + (f" and {len(paths) - 4} more" if len(paths) > 4 else "")
        out.print(show.said("caution" if kind == "left" else "note", f"{words[kind]}: {shown}"))


def _render_conflicts(out: Console, conflicts: Sequence[Mapping[str, object]]) -> None:
    if not conflicts:
        return
    show.heading(out, f"Changed by the upgrade and by somebody since ({len(conflicts)})")
    taken = {"theirs": "live", "ours": "the snapshot", "both": "both"}
    rows = []
    for c in conflicts[:_MOST_SHOWN]:
        stays = taken[str(c["taken"])]
        if "path" in c:
            rows.append((str(c["path"]), str(c["clash"]), "", "", stays))
        else:
            key = c["key"]
            assert isinstance(key, Mapping)
            where = f"{c['table']} {_key(key)}"
            rows.append(
                (where, str(c["column"] or c["clash"]), show.cell(c["theirs"], 24), show.cell(c["ours"], 24), stays)
            )
    show.table(out, ("where", "what", "on live", "in the snapshot", "stays"), rows, keep=(4,))
    _more(out, len(conflicts))
    out.print(Text("The other is saved beside the log. [merge] in the site file, or --prefer, decides otherwise.",
                   style="dim"))  # fmt: skip


def _key(key: Mapping[str, object]) -> str:
    return ", ".join(map(str, key.values()))


def _more(out: Console, count: int) -> None:
    if count > _MOST_SHOWN:
        out.print(Text(f"and {count - _MOST_SHOWN} more (--json lists them)", style="dim"))


def _render_all(out: Console, results: Sequence[RollbackResult], ages: Sequence[str]) -> None:
    """Each cutover that was gone back over, the last one's result at the end."""
    for number, (result, old) in enumerate(zip(results, ages, strict=True), 1):
        over = f" (cutover {number} of {len(results)} that it led over)" if len(results) > 1 else ""
        show.headline(out, "done", f"{result.site} is back at core {result.core} on {result.runtime}{over}")
        _render(out, result, old)
    show.next_step(out, "look at the site; keenharbor log tells what was done")


def _render(out: Console, result: RollbackResult, old: str) -> None:
    carried = "; ".join(
        TableCount(c["new"], c["changed"], c["removed"]).told(t) for t, c in sorted(result.carried.items())
    )
    files = [f"{len(paths)} {kind}" for kind, paths in result.files.items() if kind != "left"]
    show.pairs(out, [
        ("from snapshot", Text(f"{result.target}, {old}")),
        ("carried over", Text(carried or "nothing to carry", style="bold")),
        *([("files", Text(", ".join(files)))] if files else []),
        *([("both changed", Text(plural(len(result.conflicts), "time"), style="yellow"))] if result.conflicts else []),
        *([("renumbered", Text(", ".join(f"{n} of {t}" for t, n in result.renumbered.items())))] if result.renumbered
            else []),
        ("not carried", Text(plural(result.aside, "change") if result.aside else "nothing")),
        *([("left out", Text(f"{plural(result.left_out, 'change')}, as you asked"))] if result.left_out else []),
        *([("without", Text(f"columns that the old tables lack, in {plural(result.trimmed, 'row')}"))] if result.trimmed
            else []),
        *([("saved in", Text(result.aside_file))] if result.aside_file else []),
        ("before this", Text(f"snapshot {result.safety} holds all of it")),
    ])  # fmt: skip
    for remark in result.remarks:
        out.print(show.said("caution", remark))
    if left := result.files.get("left"):
        shown = ", ".join(left[:4]) + (f" and {len(left) - 4} more" if len(left) > 4 else "")
        out.print(show.said("caution", f"edited since, and gone back with the code: {shown}"))
    for line in result.inferred:
        out.print(show.said("note", f"taken from the data: {line}"))
    _render_conflicts(out, result.conflicts)
    if result.elsewhere:
        out.print()
        out.print(Text("What else had changed since, and went with the way back:", style="dim"))
        for line in result.elsewhere:
            out.print(show.said("note", line))

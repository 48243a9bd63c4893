"""``snapshot restore``, ``drill``, ``export``, ``import``: proving, giving back, taking away."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import get_args

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.errors import UsageError
from keenharbor.base.text import age, duration, plural, size
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.quantities import BYTES
from keenharbor.cli.snapshotgroup import snapshot
from keenharbor.clone.drill import Drilled, drill
from keenharbor.database import DatabasePlace
from keenharbor.live.restore import Chosen, Conflict, preview_restore, restore_live
from keenharbor.site.load import read_password
from keenharbor.site.log import append_log
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, find_snapshot, give_back
from keenharbor.snapshot.archive import ArchiveForm
from keenharbor.snapshot.export import Exported, ExportOptions, export_snapshot
from keenharbor.snapshot.importing import import_snapshot
from keenharbor.snapshot.moved import Moved
from keenharbor.snapshot.restore import GivenBack
from keenharbor.snapshot.target import target_at
from keenharbor.store import Store
from keenharbor.tree import AREAS


@harbor_command(snapshot, name="drill")
@click.argument("wanted", metavar="SNAPSHOT", default="newest")
def drill_command(session: Session, wanted: str) -> int:
    """Prove SNAPSHOT: restore it into a scratch place, start the site there, look at its pages and make its checks.

    The outcome is kept with the snapshot, with the time that a real restore would take. Live is only looked at. Exit
    code 0: it came up; 1: it did not."""
    site = session.site()
    found = find_snapshot(session.store(site), wanted, site.name)
    result = drill(site, found, session.progress)
    told = f"{plural(result.pages, 'page')}, restore in {duration(result.restore_seconds)}"
    append_log(site.work, site.name, "snapshot drill", "proven" if result.good else "failed", told, found.id)
    session.show(result.as_json(), lambda out: _render_drill(out, found, result))
    return 0 if result.good else 1


def _render_drill(out: Console, found: Snapshot, result: Drilled) -> None:
    if result.good:
        show.headline(out, "proven", f"snapshot {found.id}, {age(found.taken_at)}, came up")
    else:
        show.headline(out, "failed", f"snapshot {found.id}, {age(found.taken_at)}, is not proven")
    restored = f"in {duration(result.restore_seconds)}: that is what a real restore would take"
    looked = f"{plural(result.pages, 'page')} and {plural(result.checks, 'check')}, in {duration(result.seconds)}"
    show.pairs(out, [("restored", Text(restored)), ("looked at", Text(looked))])
    for problem in result.problems:
        out.print(show.said("damage", problem))
    if result.pages_then and result.good:
        answer = "answers" if result.pages_then == 1 else "answer"
        out.print(show.said("good", f"{plural(result.pages_then, 'page')} {answer} as when the snapshot was taken"))
    if result.without_live:
        out.print(show.said("note", f"not compared with live: {result.without_live}"))
    if result.differences:
        what = "what was there when it was taken" if result.without_live else "live as it is today"
        out.print(show.said("note", f"{plural(len(result.differences), 'difference')} from {what}:"))
        for finding in result.differences[:8]:
            out.print(Text(f"    {finding.text}", style="dim"))
        if len(result.differences) > 8:
            out.print(Text(f"    and {len(result.differences) - 8} more (--json lists them)", style="dim"))
    elif result.good and not result.without_live:
        out.print(show.said("good", "its pages are as on live today"))
    if not result.good:
        show.next_step(out, "keenharbor snapshot verify, then take another: keenharbor snapshot take")


@harbor_command(snapshot, name="restore")
@click.argument("wanted", metavar="SNAPSHOT")
@click.argument("paths", nargs=-1)
@click.option("--to", "target", metavar="FOLDER", help="The new folder to restore into; ssh://… on another machine.")
@click.option(
    "--database", "url", metavar="URL", help="Another database to restore into ('keenharbor manual site-file')."
)
@click.option("--live", is_flag=True, help="Restore over the live site.")
@click.option("--area", "areas", multiple=True, type=click.Choice(AREAS), help="Only the files of an area.")
@click.option("--table", "tables", multiple=True, metavar="TABLE", help="Only the rows of a table.")
@click.option("--no-database", is_flag=True, help="Only files.")
@click.option("--no-files", is_flag=True, help="Only the database.")
@click.option("--new-address", metavar="URL", help="The site has moved: rewrite its address.")
@click.option("--new-root", type=click.Path(path_type=Path), help="The site has moved: rewrite its folder.")
@click.option("--password-file", type=click.Path(path_type=Path), help="The password for --database.")
@click.option("--overwrite", is_flag=True, help="Replace what is in --database.")
@click.option("--yes", is_flag=True, help="Do it without asking.")
def restore(
    session: Session, wanted: str, paths: tuple[str, ...], target: str | None, url: str | None, live: bool,
    areas: tuple[str, ...], tables: tuple[str, ...], no_database: bool, no_files: bool, new_address: str | None,
    new_root: Path | None, password_file: Path | None, overwrite: bool, yes: bool,
) -> None:  # fmt: skip
    """Give back a snapshot, or PATHS, areas or tables of it: into a new folder (--to), into another database
    (--database), or over the live site (--live). Live is not touched without --live."""
    site = session.site() if live else session.site_if_there()
    at = session.whereabouts()
    store = session.store(at)
    found = find_snapshot(store, wanted, at.name)
    chosen = Chosen.by(paths, areas, tables, not no_files, not no_database)
    chosen.check(found)
    moved = Moved(new_address, new_root) if new_address or new_root else None
    if live:
        assert site is not None
        if target is not None or url is not None or moved is not None:
            raise UsageError("--live goes with none of --to, --database, --new-address and --new-root")
        _restore_over_live(session, site, store, found, chosen, yes)
        return
    if target is None and url is None:
        raise UsageError("where to?", advice="--to FOLDER, --database URL, or --live")
    place = None
    if url is not None:
        password = read_password(Path(), str(password_file)) if password_file is not None else ""
        place = DatabasePlace.from_url(url, password)
        if overwrite:
            session.confirm(f"All that is in {place} is replaced.", yes)
    given = give_back(
        found, target_at(at, target) if target is not None else None, chosen.fits, files=chosen.files, tables=tables,
        database=place, with_database=chosen.database,
        overwrite=overwrite, moved=moved, live=site.database if site is not None else session.live_database(),
    )  # fmt: skip
    where = str(target or place)
    append_log(
        at.work, at.name, "snapshot restore", "done", f"{given.paths} paths, {given.rows} rows to {where}", found.id
    )
    told = {"snapshot": found.id, "paths": given.paths, "rows": given.rows, "seconds": round(given.seconds, 3),
            "files": given.files, "database": given.database,
            "rewritten_files": given.rewritten_files, "rewritten_cells": given.rewritten_cells}  # fmt: skip
    session.show(told, lambda out: _render_given(out, found, given, where, has_moved=moved is not None))


def _restore_over_live(
    session: Session, site: SiteView, store: Store, found: Snapshot, chosen: Chosen, yes: bool
) -> None:
    conflict = preview_restore(site, found, chosen, store)
    if not conflict:
        session.show(
            {"snapshot": found.id, "changed": False},
            lambda out: show.headline(out, "done", "live holds just that already"),
        )
        return
    if not session.as_json:
        _render_conflict(session.out, site, found, conflict)
    session.confirm(f"{site.told_address} goes back to snapshot {found.id}, {age(found.taken_at)}.", yes)
    done = restore_live(site, store, found, chosen, session.progress)
    session.show(
        {**done.as_json(), "changed": True, "conflict": conflict.as_json()},
        lambda out: _render_live(out, found, done.safety),
    )


def _render_given(out: Console, found: Snapshot, given: GivenBack, where: str, *, has_moved: bool) -> None:
    show.headline(out, "done", f"snapshot {found.id}, {age(found.taken_at)}, is in {where}")
    rows = []
    if given.files is not None:
        rows.append(("files", Text(f"{plural(given.paths, 'path')} in {given.files}")))
    if given.database is not None:
        checked = ", read back and checked" if given.checked else ""
        rows.append(("database", Text(f"{plural(given.rows, 'row')} in {given.database}{checked}")))
    if has_moved:
        told = f"{plural(given.rewritten_files, 'file')}, {plural(given.rewritten_cells, 'cell')}"
        rows.append(("rewritten", Text(told)))
    show.pairs(out, rows)


def _render_conflict(out: Console, site: SiteView, found: Snapshot, conflict: Conflict) -> None:
    out.print(
        Text(f"What {site.told_address} has now and snapshot {found.id} ({age(found.taken_at)}) has not:", style="bold")
    )
    for words, paths in (
        ("new since, would be removed", conflict.added_since), ("changed since, would go back", conflict.changed_since),
        ("gone since, would come back", conflict.missing), ("made otherwise, would be made anew", conflict.redefined),
    ):  # fmt: skip
        if paths:
            out.print(show.said("note", f"{words}: {_some(paths)}"))
    for table, (lost, changed, back) in sorted(conflict.rows.items()):
        parts = [(lost, "would be lost"), (changed, "would change back"), (back, "would come back")]
        told = ", ".join(f"{plural(n, 'row')} {w}" for n, w in parts if n)
        visitors = table in site.model.visitor_data.tables
        out.print(
            show.said(
                "caution" if visitors and lost else "note",
                f"table {table}: {told}" + (" (of visitors)" if visitors else ""),
            )
        )
    if any(conflict.rows.get(t, (0, 0, 0))[0] for t in site.model.visitor_data.tables):
        out.print(Text("'keenharbor rollback SNAPSHOT' goes back and keeps the rows of visitors.", style="dim"))
    out.print(Text("A snapshot of live as it is now is taken first.", style="dim"))


def _some(paths: Sequence[str]) -> str:
    shown = ", ".join(p.encode("utf-8", "surrogateescape").decode("utf-8", "replace") for p in paths[:4])
    return shown + (f" and {len(paths) - 4} more" if len(paths) > 4 else "")


def _render_live(out: Console, found: Snapshot, safety: str) -> None:
    show.headline(out, "done", f"live is as in snapshot {found.id}, {age(found.taken_at)}, in what was chosen")
    out.print(Text(f"As it was before: snapshot {safety}", style="dim"))
    show.next_step(out, f"look at the site; to undo it: keenharbor snapshot restore {safety} --live")


def _passphrase(file: Path | None, ask: bool) -> str | None:
    """The passphrase from a file, or asked for twice on a terminal. Never from an argument, which others could see."""
    if file is not None:
        found = read_password(Path(), str(file))
        if not found:
            raise UsageError("the passphrase's file is empty", where=file)
        return found
    if not ask:
        return None
    if not sys.stdin.isatty():
        raise UsageError("nobody is there to ask for a passphrase", advice="--passphrase-file FILE")
    return str(click.prompt("Passphrase", hide_input=True, confirmation_prompt=True, err=True))


@harbor_command(snapshot, name="export")
@click.argument("wanted", metavar="SNAPSHOT")
@click.argument("target", metavar="FILE", type=click.Path(path_type=Path))
@click.option(
    "--form", type=click.Choice(get_args(ArchiveForm)), help="The archive's form (by FILE's ending, else tar.zst)."
)
@click.option("--part", "part_size", type=BYTES, help="Parts of at most this size: 500M.")
@click.option("--csv", "csv", multiple=True, metavar="TABLE", help="A table as CSV, too; * for all.")
@click.option("--passphrase", "ask", is_flag=True, help="Seal it with a passphrase, which is asked for.")
@click.option("--passphrase-file", type=click.Path(path_type=Path), help="Seal it with the passphrase in a file.")
@click.option("--level", type=click.IntRange(1, 19), default=1, show_default=True, help="Compression.")
def export_command(
    session: Session, wanted: str, target: Path, form: ArchiveForm | None, part_size: int | None, csv: tuple[str, ...],
    ask: bool, passphrase_file: Path | None, level: int,
) -> None:  # fmt: skip
    """Write SNAPSHOT as one portable file: plain files, SQL text, sums, and a text that says how to restore it by
    hand."""
    site = session.site()
    found = find_snapshot(session.store(site), wanted, site.name)
    by_ending: ArchiveForm = next((f for f in get_args(ArchiveForm) if target.name.endswith(f".{f}")), "tar.zst")
    if part_size is not None and part_size < 64 * 1024:
        raise UsageError("parts of less than 64K are of no use")
    options = ExportOptions(form or by_ending, part_size, _passphrase(passphrase_file, ask), csv, level)
    made = export_snapshot(found, target, options, session.progress)
    detail = f"{size(made.bytes)} to {target}"
    append_log(site.work, site.name, "snapshot export", "done", detail, found.id, str(target.absolute()))
    told: dict[str, object] = {"snapshot": found.id, "files": [str(f) for f in made.files], "members": made.members,
                            "plain_bytes": made.plain_bytes, "bytes": made.bytes,
                            "sealed": options.passphrase is not None}  # fmt: skip
    session.show(told, lambda out: _render_export(out, found, made, options))


def _render_export(out: Console, found: Snapshot, made: Exported, options: ExportOptions) -> None:
    show.headline(out, "done", f"snapshot {found.id}, {age(found.taken_at)}, is in {made.files[0]}")
    rows = [
        ("holds", Text(f"{plural(made.members, 'member')}, {size(made.plain_bytes)}")),
        ("takes", Text(size(made.bytes))),
    ]
    if options.part_size is not None:
        rows.append(("parts", Text(f"{len(made.files)}, the last is {made.files[-1].name}")))
    sealed = (
        "with the passphrase; without it nothing of this can be read"
        if options.passphrase
        else "no: keep it where only you can read it"
    )
    rows.append(("sealed", Text(sealed)))
    show.pairs(out, rows)
    show.next_step(
        out, f"on another machine: keenharbor snapshot import {made.files[0].name}   (by hand: see README.txt in it)"
    )


@harbor_command(snapshot, name="import")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--passphrase", "ask", is_flag=True, help="It is sealed; the passphrase is asked for.")
@click.option("--passphrase-file", type=click.Path(path_type=Path), help="It is sealed with the passphrase in a file.")
@click.option("--allow-links-out", is_flag=True, help="Take links that point out of the site.")
@click.option("--allow-set-ids", is_flag=True, help="Let files keep setuid and setgid: they run as their owner.")
@click.option("--as-this-site", is_flag=True, help="Take it as a snapshot of this site, whatever its name was.")
def import_command(
    session: Session,
    file: Path,
    ask: bool,
    passphrase_file: Path | None,
    allow_links_out: bool,
    allow_set_ids: bool,
    as_this_site: bool,
) -> None:
    """Take an exported archive into the store. It is checked as a whole before anything is written."""
    site = session.site()
    store = session.store(site, create=True)
    taken = import_snapshot(
        file, store, session.progress, passphrase=_passphrase(passphrase_file, ask), links_out=allow_links_out,
        site=site.name if as_this_site else None, set_ids=allow_set_ids,
    )  # fmt: skip
    append_log(site.work, site.name, "snapshot import", "done", f"from {file}", taken.id)

    def render(out: Console) -> None:
        show.headline(out, "done", f"snapshot {taken.id} of {taken.site}, {age(taken.taken_at)}, is in the store")
        show.pairs(out, [("added", Text(size(taken.manifest.added_bytes)))])
        if taken.site != site.name:
            out.print(
                show.said(
                    "note",
                    f"it is of the site '{taken.site}', so it is not in the list of '{site.name}' (--as-this-site)",
                )
            )
        show.next_step(out, f"keenharbor snapshot drill {taken.id}")

    session.show(taken.summary(), render)

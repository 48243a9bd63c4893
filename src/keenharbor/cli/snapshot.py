"""``snapshot``: take, list, show, verify, restore."""

from __future__ import annotations

from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.errors import UsageError
from keenharbor.base.text import age, duration, plural, size, when
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cutover.guarded import take_guarded
from keenharbor.site.log import append_log
from keenharbor.snapshot import (
    Snapshot,
    TakeOptions,
    find_snapshot,
    give_back,
    list_snapshots,
    verify_store,
)
from keenharbor.snapshot.verify import Verification
from keenharbor.tree import AREAS


@click.group(name="snapshot", context_settings={"help_option_names": ["-h", "--help"]})
def snapshot() -> None:
    """Save files and database in the store; list, verify, restore."""


@harbor_command(snapshot, name="take")
@click.option("--label", help="A short name to find it by.")
@click.option("--comment", help="Why it is taken, in your words.")
@click.option("--leave-out", "areas", multiple=True, type=click.Choice(AREAS), help="An area to leave out.")
def take(session: Session, label: str | None, comment: str | None, areas: tuple[str, ...]) -> None:
    """Save the site's files and database. The site stays up; nothing of it is changed."""
    site = session.site()
    store = session.store(site, create=True)
    known = list_snapshots(store, site.name)
    if label and any(s.label == label for s in known):
        raise UsageError(f"there is a snapshot with the label '{label}' already", advice="choose another label")
    taken = take_guarded(site, store, TakeOptions(label, comment, "by hand", areas), session.progress)
    session.show(taken.summary(), lambda out: _render_taken(out, taken))


def _render_taken(out: Console, taken: Snapshot) -> None:
    facts = taken.summary()
    show.headline(out, "done", f"snapshot {taken.id}" + (f" ({taken.label})" if taken.label else ""))
    show.pairs(out, _facts(facts))
    _left_out(out, facts)
    show.next_step(out, "a snapshot counts when it has come up: a trial proves it (keenharbor trial run)")


def _facts(facts: dict[str, object]) -> list[tuple[str, Text]]:
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


def _left_out(out: Console, facts: dict[str, object]) -> None:
    for key, words in (
        ("areas_left_out", "areas left out"), ("unreadable", "could not be read"), ("unstable", "kept changing while read"),
        ("not_kept", "not kept"), ("left_out", "left out by rule"),
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


@harbor_command(snapshot, name="list")
def list_command(session: Session) -> None:
    """List the site's snapshots, the newest first."""
    site = session.site()
    found = list_snapshots(session.store(site), site.name)
    session.show([s.summary() for s in found], lambda out: _render_list(out, found))


def _render_list(out: Console, found: list[Snapshot]) -> None:
    if not found:
        out.print("There is no snapshot of this site yet.")
        show.next_step(out, "keenharbor snapshot take")
        return
    rows = []
    for item in found:
        proof = item.proven
        proven = show.mark("proven") if proof else show.mark("not proven")
        by_hand = item.manifest["reason"] == "by hand"
        what = item.label or (item.manifest["comment"] if by_hand else None) or item.manifest["reason"]
        versions = str(item.manifest["facts"]["core"])
        rows.append((item.id, age(item.taken_at), size(item.manifest["added_bytes"]), versions, proven, what))
    show.table(out, ("snapshot", "age", "added", "core", "proof", "what for"), rows, right=(2,), keep=(0, 1, 3, 4))


@harbor_command(snapshot, name="show")
@click.argument("wanted", metavar="SNAPSHOT", default="newest")
@click.option("--paths", is_flag=True, help="List the paths in it.")
@click.option("--tables", is_flag=True, help="List the tables in it.")
def show_command(session: Session, wanted: str, paths: bool, tables: bool) -> None:
    """Show one snapshot.

    By id, the beginning of one, label, or "newest"."""
    site = session.site()
    found = find_snapshot(session.store(site), wanted, site.name)
    told = found.summary()
    if paths:
        told["paths"] = [
            {"path": e.path, "kind": e.kind, "size": e.size, "area": e.area, "mode": f"{e.mode:04o}"}
            for e in found.entries.values()
        ]
    if tables:
        told["table_rows"] = {t.name: t.row_count for t in found.state.tables.values()}
    session.show(told, lambda out: _render_one(out, found, paths, tables))


def _render_one(out: Console, found: Snapshot, paths: bool, tables: bool) -> None:
    facts = found.summary()
    out.print(
        Text(f"Snapshot {found.id}", style="bold"), Text(f"of {found.manifest['title'] or found.site}", style="dim")
    )
    proof = max(found.proofs, key=lambda p: p.at, default=None)
    proven = Text("no: it was never restored")
    if proof is not None and proof.good:
        proven = Text(f"by {proof.how}, {when(proof.at)}, in {duration(proof.seconds)}")
    elif proof is not None:
        proven = Text(f"no: it did not come up in {proof.how}, {when(proof.at)}: {proof.detail}")
    told = [(k, Text(str(facts[k]))) for k in ("label", "comment", "reason") if facts[k]]
    show.pairs(out, [("taken", Text(when(found.taken_at))), *told, *_facts(facts), ("proven", proven)])
    _left_out(out, facts)
    if paths:
        show.heading(out, "Paths")
        rows = [(e.path, e.area, e.kind, size(e.size) if e.kind == "file" else "") for e in found.entries.values()]
        show.table(out, ("path", "area", "kind", "size"), rows, right=(3,), keep=())
    if tables:
        show.heading(out, "Tables")
        show.table(
            out, ("table", "rows"), [(t.name, f"{t.row_count:,}") for t in found.state.tables.values()], right=(1,)
        )


@harbor_command(snapshot, name="verify")
def verify(session: Session) -> int:
    """Read the whole store again and check everything in it. Exit code 1 when something is damaged."""
    site = session.site()
    found = verify_store(session.store(site), session.progress)
    append_log(
        site.work, site.name, "snapshot verify", "good" if found.good else "damaged", f"{found.objects} objects read"
    )
    session.show(found.as_json(), lambda out: _render_verify(out, found))
    return 0 if found.good else 1


def _render_verify(out: Console, found: Verification) -> None:
    what = f"{plural(found.objects, 'sound object')} in {plural(found.snapshots, 'readable snapshot')}"
    show.headline(out, "good" if found.good else "damaged", what)
    for damage in found.damages:
        out.print(show.said("damage", damage))
    for identity, places in found.hurt.items():
        more = f" and {len(places) - 5} more" if len(places) > 5 else ""
        out.print(Text(f"snapshot {identity} is hurt: {', '.join(places[:5])}{more}"))
    if not found.good:
        show.next_step(out, "take another snapshot now: keenharbor snapshot take")


@harbor_command(snapshot, name="restore")
@click.argument("wanted", metavar="SNAPSHOT")
@click.argument("paths", nargs=-1)
@click.option("--to", "target", type=click.Path(path_type=Path), required=True, help="The new folder to restore into.")
def restore(session: Session, wanted: str, paths: tuple[str, ...], target: Path) -> None:
    """Give back a snapshot, or PATHS of it, into a new folder. Live is not touched."""
    site = session.site()
    found = find_snapshot(session.store(site), wanted, site.name)
    given = give_back(found, target, paths)
    append_log(site.work, site.name, "snapshot restore", "done", f"{given.paths} paths to {target}", found.id)
    told = {"snapshot": found.id, "paths": given.paths, "rows": given.rows, "seconds": round(given.seconds, 3),
            "files": str(given.files), "database": str(given.database) if given.database else None}  # fmt: skip

    def render(out: Console) -> None:
        show.headline(out, "done", f"snapshot {found.id}, {age(found.taken_at)}, is in {target}")
        rows = [("files", Text(f"{plural(given.paths, 'path')} in {given.files}"))]
        if given.database is not None:
            rows.append(("database", Text(f"{plural(given.rows, 'row')} in {given.database}, read back and checked")))
        show.pairs(out, rows)

    session.show(told, render)

"""``snapshot``: take, list, show, verify; the group's other commands are in `keeping` and `giving`."""

from __future__ import annotations

from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.errors import UsageError
from keenharbor.base.text import duration, plural, size
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.listing import facts_of, tell_left_out
from keenharbor.cli.quantities import BYTES
from keenharbor.cli.snapshotgroup import snapshot
from keenharbor.live.snapshots import newest_whole, take_guarded
from keenharbor.site.log import append_log
from keenharbor.snapshot import (
    Snapshot,
    TakeOptions,
    list_snapshots,
)
from keenharbor.snapshot.estimate import Estimate, estimate, refuse_without_room
from keenharbor.snapshot.verify import Verification
from keenharbor.store import Store
from keenharbor.tree import AREAS


@harbor_command(snapshot, name="take")
@click.option("--label", help="A short name to find it by.")
@click.option("--comment", help="Why it is taken, in your words.")
@click.option("--scheduled", is_flag=True, help="Note that a timer took it, not a person.")
@click.option("--leave-out", "areas", multiple=True, type=click.Choice(AREAS), help="An area to leave out.")
@click.option("--leave-out-path", "paths", multiple=True, metavar="PATTERN", help="Paths to leave out.")
@click.option("--empty-table", "tables", multiple=True, metavar="PATTERN", help="Tables of which no row is taken.")
@click.option("--every-row", is_flag=True, help="Take the rows of all tables, whatever the site file says.")
@click.option("--largest-file", type=BYTES, help="List files above this size and do not take them: 2G.")
@click.option("--gentle", is_flag=True, help="For a shared server: low priority, one worker, 8 MiB a second.")
@click.option("--workers", type=click.IntRange(1, 64), help="So many threads or processes that read and pack.")
@click.option("--level", type=click.IntRange(1, 19), help="Compression, from 1 (fast) to 19 (small).")
@click.option("--read-all", is_flag=True, help="Read what seems unchanged, too.")
@click.option("--look", is_flag=True, help="Only tell how much it would be, and what would be left out.")
def take(
    session: Session, label: str | None, comment: str | None, scheduled: bool, areas: tuple[str, ...],
    paths: tuple[str, ...],
    tables: tuple[str, ...], every_row: bool, largest_file: int | None, gentle: bool, workers: int | None,
    level: int | None, read_all: bool, look: bool,
) -> int:  # fmt: skip
    """Save the site's files and database. The site stays up; nothing of it is changed."""
    site = session.site()
    options = TakeOptions(
        label, comment, "scheduled" if scheduled else "by hand", areas, paths, tables, largest_file, every_row, gentle,
        workers, level, read_all,
    )  # fmt: skip
    there = (site.store_folder / "store.json").exists()
    store = session.store(site, create=True) if there or not look else None
    known = list_snapshots(store, site.name) if store is not None else []
    if label and any(s.label == label for s in known):
        raise UsageError(f"there is a snapshot with the label '{label}' already", advice="choose another label")
    newest = None if read_all else newest_whole(known)
    found = estimate(site, options, newest)
    if look:
        session.show(found.as_json(), lambda out: _render_estimate(out, found))
        return 0 if found.enough_room and not found.lacking else 1
    refuse_without_room(found, site)
    for words in found.lacking:
        session.progress.note(f"the database user cannot {words}")
    assert store is not None
    taken = take_guarded(site, store, options, session.progress, found.scan, newest)
    if site.model.snapshot.visit:
        from keenharbor.clone.remembered import remember

        session.progress.stage("noting what live answers")
        remember(site, taken)
    session.show(taken.summary(), lambda out: _render_taken(out, taken))
    return 0


def _render_estimate(out: Console, found: Estimate) -> None:
    rows = [
        ("files", Text(f"{plural(found.files, 'file')}, {size(found.file_bytes)}; {size(found.to_read)} to be read")),
        ("database", Text(f"about {size(found.database_bytes)}")),
        ("takes", Text(f"about {duration(found.seconds)}")),
        ("adds", Text(f"up to {size(found.most_added)}; {size(found.free)} free at the store")),
    ]
    show.pairs(out, rows)
    for words in found.lacking:
        out.print(show.said("caution", f"the database user cannot {words}"))
    told = {k: list(getattr(found, k)) for k in ("unreadable", "too_large", "left_empty", "left_out")}
    tell_left_out(out, {**told, "areas_left_out": [], "unstable": [], "not_kept": []})
    if not found.enough_room:
        out.print(show.said("blocked", "that may not fit: nothing would be taken"))
    show.next_step(out, "keenharbor snapshot take" if found.enough_room else "keenharbor snapshot thin --preview")


def _render_taken(out: Console, taken: Snapshot) -> None:
    facts = taken.summary()
    show.headline(out, "done", f"snapshot {taken.id}" + (f" ({taken.label})" if taken.label else ""))
    show.pairs(out, facts_of(facts))
    tell_left_out(out, facts)
    show.next_step(out, f"a snapshot counts when it has come up: keenharbor snapshot drill {taken.label or taken.id}")


@harbor_command(snapshot, name="verify")
@click.option(
    "--mend-from", "other", type=click.Path(path_type=Path), help="A store to take what is damaged here from."
)
def verify(session: Session, other: Path | None) -> int:
    """Read the whole store again and check everything in it, and in the work folder. Exit code 1 when something is
    damaged."""
    from keenharbor.live.verify import verify_site

    site = session.whereabouts()
    found = verify_site(site, session.store(site), session.progress, Store(other) if other is not None else None)
    detail = f"{found.objects} objects read" + (f", {found.mended} mended" if found.mended else "")
    append_log(site.work, site.name, "snapshot verify", "good" if found.good else "damaged", detail)
    session.show(found.as_json(), lambda out: _render_verify(out, found, other))
    return 0 if found.good else 1


def _render_verify(out: Console, found: Verification, other: Path | None) -> None:
    what = f"{plural(found.objects, 'sound object')} in {plural(found.snapshots, 'readable snapshot')}"
    mended = f"; {plural(found.mended, 'thing')} mended from {other}" if found.mended else ""
    show.headline(out, "good" if found.good else "damaged", what + mended)
    for damage in found.damages[:40]:
        out.print(show.said("damage", damage))
    if len(found.damages) > 40:
        out.print(Text(f"and {len(found.damages) - 40} more (--json lists them)", style="dim"))
    for identity, places in found.hurt.items():
        more = f" and {len(places) - 5} more" if len(places) > 5 else ""
        out.print(Text(f"snapshot {identity} is hurt: {', '.join(places[:5])}{more}"))
    if not found.good:
        if not found.hurt:
            out.print("Nothing that a snapshot needs is lost.")
        elif other is None:
            out.print(Text("A store with the same objects can mend this one: --mend-from FOLDER", style="dim"))
        show.next_step(out, "take another snapshot now: keenharbor snapshot take")

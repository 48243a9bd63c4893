"""``survey``"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.text import age, plural, size
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.site.edits import LocalEdit, edits_against
from keenharbor.site.load import Origin, origin_of
from keenharbor.site.survey import (
    Installation,
    Survey,
    differences,
    keep_survey,
    kept_survey,
    read_kept_survey,
    survey_site,
)

if TYPE_CHECKING:
    from keenharbor.compare.health import Health


@harbor_command(name="survey")
@click.option("--why", metavar="KEY", help="Only tell where the value of a key of the site file comes from.")
@click.option("--save", is_flag=True, help="Keep this survey, to compare a later one with it.")
@click.option(
    "--against",
    metavar="[FILE]",
    is_flag=False,
    flag_value="newest",
    help="Tell what differs from a kept survey (the newest).",
)
@click.option("--pages", is_flag=True, help="Visit the live pages, too, and tell what fails today.")
@click.option(
    "--pristine",
    type=click.Path(path_type=Path, exists=True),
    help="Only tell how the files differ from a pristine copy: a folder, or an archive.",
)
@click.option("--under", default="", metavar="FOLDER", help="The site's folder that the pristine copy is of.")
def survey(
    session: Session, why: str | None, save: bool, against: str | None, pages: bool, pristine: Path | None, under: str
) -> int:  # fmt: skip
    """Say what the site is made of: versions, extensions, sizes, tables, local edits. Reads only."""
    if why is not None:
        origin = origin_of(session.site_file, why)
        session.show(vars(origin), lambda out: _render_origin(out, origin))
        return 0
    site = session.site()
    if pristine is not None:
        edits = edits_against(site, pristine, under)
        told_edits = {"pristine": str(pristine), "under": under, "edits": [asdict(e) for e in edits]}
        session.show(told_edits, lambda out: _render_pristine(out, edits, pristine))
        return 1 if edits else 0
    # Who compares and keeps has nothing to compare with at the first time.
    first = save and against == "newest" and not any((site.work / "surveys").glob("*.json"))
    earlier_file = kept_survey(site.work, against) if against is not None and not first else None
    found = survey_site(site, session.feed_if_any(site), session.newest_snapshot(site))
    told = json.loads(json.dumps(found.as_json(), default=str))
    health = None
    if pages:
        from keenharbor.compare.health import look_at_health

        session.progress.stage("visiting the live pages")
        health = look_at_health(site.address, site.model.look, session.progress)
    told["health"] = health.as_json() if health is not None else None
    kept = keep_survey(site.work, told) if save else None
    if kept is not None:
        session.progress.note(f"kept as {kept}")
    if earlier_file is not None:
        from keenharbor.compare.health import new_faults

        earlier = read_kept_survey(earlier_file)
        changed = new_faults(earlier.get("health"), told["health"]) + differences(earlier, told)
        session.show(
            {"against": str(earlier_file), "differences": changed},
            lambda out: _render_changes(out, changed, earlier_file),
        )
        return 1 if changed else 0

    def render(out: Console) -> None:
        _render(out, found, health)
        if kept is not None and health is None:
            show.headline(out, "done", f"the survey is kept as {kept.name}, for a later one to be held against")

    session.show(told, render)
    return 0 if health is None or health.good else 1


def _render_changes(out: Console, changed: list[str], file: Path) -> None:
    show.headline(out, "caution" if changed else "clear", f"against {file.name}: {plural(len(changed), 'difference')}")
    for line in changed:
        out.print(Text(f"· {line}"))


def _render_pristine(out: Console, edits: Sequence[LocalEdit], pristine: Path) -> None:
    show.headline(
        out,
        "caution" if edits else "clear",
        f"against {pristine.name}: {plural(len(edits), 'file differs', 'files differ')}",
    )
    for edit in edits:
        out.print(show.mark("caution", edit.path), Text("not here" if edit.removed else "", style="dim"))
        if not edit.removed:
            _render_diff(out, edit.diff)


def _render_diff(out: Console, diff: str, most: int | None = None) -> None:
    for line in diff.rstrip().splitlines()[2:most]:
        colour = {"+": "green", "-": "red"}.get(line[:1], "dim")
        out.print(Text("    " + line, style=colour))


def _render_origin(out: Console, origin: Origin) -> None:
    rows = [
        ("key", Text(origin.key, style="bold")),
        ("value", Text(_plain(origin.value))),
        ("from", Text(origin.where)),
    ]
    if origin.overrides:
        rows.append(("instead of", Text(origin.overrides)))
    show.pairs(out, rows)


def _plain(value: object) -> str:
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False, default=str)


def _render(out: Console, found: Survey, health: Health | None = None) -> None:
    _render_facts(out, found)
    _render_installations(out, found)
    _render_contents(out, found)
    _render_orphans(out, found)
    if health is not None:
        _render_health(out, health)
    _render_edits(out, found)
    _render_places(out, found)
    show.next_step(out, f"keenharbor ready --core {found.core_newest or 'VERSION'}")


def _render_facts(out: Console, found: Survey) -> None:
    out.print(Text(found.title or found.name, style="bold"), Text(f"  {found.address}", style="dim"))
    out.print()
    core = Text(f"{found.platform} {found.core}")
    if found.core_newest and found.core_newest != found.core:
        core.append_text(Text("  ")).append_text(show.mark("pending", f"{found.core_newest} is out"))
    snapshot: Text = show.mark("caution", "none")
    if found.snapshot is not None:
        proof = show.mark("proven") if found.snapshot.proven_at else show.mark("not proven")
        snapshot = Text(f"{found.snapshot.id}, {age(found.snapshot.taken_at)}  ").append_text(proof)
    others = [v for v in found.runtime_installed if v not in found.runtime]
    rows = [
        ("core", core),
        ("runtime", Text(found.runtime + (f"  (also here: {', '.join(others)})" if others else ""))),
        ("database", Text(f"{found.engine} {found.engine_version}, {size(found.database_bytes)}")),
        ("", Text(found.database_place, style="dim")),
        ("files", Text(found.root, style="dim")),
        ("snapshot", snapshot),
    ]
    if found.maintenance:
        rows.append(("maintenance", show.mark("caution", "on")))
    show.pairs(out, rows)


def _render_installations(out: Console, found: Survey) -> None:
    pending = sum(i.update_pending for i in found.installations)
    show.heading(out, f"Extensions and themes ({len(found.installations)}, {plural(pending, 'update')} pending)")
    order = sorted(
        found.installations, key=lambda i: (not (i.update_pending or i.replaced_by), i.component.kind, i.component.name)
    )
    show.table(out, ("name", "version", "state", "pending", "wants core"), [_row(i) for i in order], keep=(0, 1, 2))

    for found_one in order:
        name = found_one.component.name
        if found_one.needed_by:
            out.print(Text(f"{name} is needed by {', '.join(found_one.needed_by)}", style="dim"))
        for channel, version in sorted(found_one.channels.items()):
            out.print(Text(f"{name} {version} is out in the channel {channel}", style="dim"))
    out.print()


def _render_contents(out: Console, found: Survey) -> None:
    wide = out.width >= 100
    shown = [
        (_shortened(t, 60 if wide else 26), found.kinds.get(t, ("content", ""))[0], n)
        for t, n in list(found.tables.items())[:12]
    ]
    more = len(found.tables) - len(shown)
    areas = show.made_table(
        ("area", "files", "size"), [(a, f"{n:,}", size(b)) for a, (n, b) in found.areas.items()], right=(1, 2)
    )
    tables = show.made_table(("table", "kind", "rows"), [(t, k, f"{n:,}") for t, k, n in shown], right=(2,))
    show.beside(out, areas, tables)
    if more > 0:
        out.print(f"and {plural(more, 'more table')} (--json lists all)")


def _render_edits(out: Console, found: Survey) -> None:
    show.heading(out, f"Local edits ({len(found.edits)})")
    if not found.edits and not found.unchecked:
        out.print("none: every file of a package is as it was shipped")
    for edit in found.edits:
        out.print(
            show.mark("caution", edit.path), Text("removed here" if edit.removed else f"of {edit.package}", style="dim")
        )
        _render_diff(out, edit.diff, 10)
    for note in found.unchecked:
        out.print(show.said("caution", f"not checked: {note}"))
    for path in found.unreadable:
        out.print(show.said("caution", f"could not be read: {path}"))
    for stray in found.strays[:10]:
        what = (
            f"takes the place of {stray.instead_of}"
            if stray.instead_of
            else f"belongs to no package (among {stray.package})"
        )
        out.print(show.mark("caution", stray.path), Text(what, style="dim"))
    if len(found.strays) > 10:
        out.print(f"and {plural(len(found.strays) - 10, 'more stray')} (--json lists all)")


def _render_orphans(out: Console, found: Survey) -> None:
    for name in found.orphans:
        out.print(show.said("caution", f"{name} is in the database and in no folder"))
    for path, count in found.log_errors.items():
        out.print(show.said("caution", f"{path}: {plural(count, 'line')} of errors, from before any upgrade"))


def _render_health(out: Console, health: Health) -> None:
    show.heading(out, f"Today on {plural(health.pages, 'page')}")
    if health.good:
        show.headline(out, "good", "every page, picture, style and script loads")
    else:
        faults = [*health.failing, *health.missing]
        few = "; ".join(f"{f.path}: {f.how}" for f in faults[:2]) + (
            f" and {len(faults) - 2} more" if faults[2:] else ""
        )
        show.headline(out, "caution", f"{plural(len(health.failing), 'page')} and "
            f"{plural(len(health.missing), 'file')} "
                      f"fail today: {few}")  # fmt: skip
    for fault in (*health.failing, *health.missing):
        where = f"on {', '.join(fault.on[:3])}" + (" …" if len(fault.on) > 3 else "") if fault.on else ""
        out.print(show.mark("fail", fault.path), Text(f"{fault.how} {where}".rstrip(), style="dim"))


def _render_places(out: Console, found: Survey) -> None:
    count = sum(found.address_places.values())
    if count:
        where = ", ".join(
            f"{p} ({n})" if n > 1 else p for p, n in sorted(found.address_places.items(), key=lambda a: -a[1])[:6]
        )
        show.heading(out, f"The address stands in {plural(count, 'place')}")
        out.print(where)
    if found.opaque_places:
        out.print(
            show.said(
                "caution",
                "packed or encoded, so that it cannot be searched: " + ", ".join(sorted(found.opaque_places)[:6]),
            )
        )


def _shortened(name: str, width: int) -> str:
    return name if len(name) <= width else name[: width - 1] + "…"


def _row(found: Installation) -> tuple[Text | str, ...]:
    c = found.component
    state = (
        ("theme, on" if c.on else "theme")
        if c.kind == "theme"
        else "on"
        if c.on
        else "off"
        if c.on is False
        else "not in the database"
    )
    pending: Text | str = ""
    if found.replaced_by:
        pending = show.mark("caution", f"given up; see {found.replaced_by}")
    elif found.update_pending:
        pending = show.mark("pending", str(found.newest))
    return (c.name, c.version, state, pending, c.requires_core)

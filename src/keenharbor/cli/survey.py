"""``survey``"""

from __future__ import annotations

import json

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.text import age, plural, size
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.site.load import Origin, origin_of
from keenharbor.site.survey import Installation, Survey, survey_site


@harbor_command(name="survey")
@click.option("--why", metavar="KEY", help="Only tell where the value of a key of the site file comes from.")
def survey(session: Session, why: str | None) -> None:
    """Say what the site is made of: versions, extensions, sizes, tables, local edits. Reads only."""
    if why is not None:
        origin = origin_of(session.site_file, why)
        session.show(vars(origin), lambda out: _render_origin(out, origin))
        return
    site = session.site()
    found = survey_site(site, session.feed_if_any(site), session.newest_snapshot(site))
    session.show(found.as_json(), lambda out: _render(out, found))


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


def _render(out: Console, found: Survey) -> None:
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

    pending = sum(i.update_pending for i in found.installations)
    show.heading(out, f"Extensions and themes ({len(found.installations)}, {plural(pending, 'update')} pending)")
    order = sorted(
        found.installations, key=lambda i: (not (i.update_pending or i.replaced_by), i.component.kind, i.component.name)
    )
    show.table(out, ("name", "version", "state", "pending", "wants core"), [_row(i) for i in order], keep=(0, 1, 2))

    out.print()
    shown = list(found.tables.items())[:12]
    more = len(found.tables) - len(shown)
    areas = show.made_table(
        ("area", "files", "size"), [(a, f"{n:,}", size(b)) for a, (n, b) in found.areas.items()], right=(1, 2)
    )
    tables = show.made_table(("table", "rows"), [(t, f"{n:,}") for t, n in shown], right=(1,))
    show.beside(out, areas, tables)
    if more > 0:
        out.print(f"and {plural(more, 'more table')} (--json lists all)")

    show.heading(out, f"Local edits ({len(found.edits)})")
    if not found.edits and not found.unchecked:
        out.print("none: every file of a package is as it was shipped")
    for edit in found.edits:
        out.print(
            show.mark("caution", edit.path), Text("removed here" if edit.removed else f"of {edit.package}", style="dim")
        )
        for line in edit.diff.rstrip().splitlines()[2:10]:
            colour = {"+": "green", "-": "red"}.get(line[:1], "dim")
            out.print(Text("    " + line, style=colour))
    for note in found.unchecked:
        out.print(show.said("caution", f"not checked: {note}"))
    for path in found.unreadable:
        out.print(show.said("caution", f"could not be read: {path}"))
    newest = found.core_newest or "VERSION"
    show.next_step(out, f"keenharbor ready --core {newest}")


def _row(found: Installation) -> tuple[Text | str, ...]:
    c = found.component
    state = "theme" if c.kind == "theme" else "on" if c.on else "off" if c.on is False else "not in the database"
    pending: Text | str = ""
    if found.replaced_by:
        pending = show.mark("caution", f"given up; see {found.replaced_by}")
    elif found.update_pending:
        pending = show.mark("pending", str(found.newest))
    return (c.name, c.version, state, pending, c.requires_core)

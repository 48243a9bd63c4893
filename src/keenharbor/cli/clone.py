"""``clone``: make, list, open, close."""

from __future__ import annotations

import dataclasses
import tempfile
import time
from pathlib import Path

import click
from rich.console import Console

from keenharbor.base.durable import write_durably
from keenharbor.base.text import age, plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.clone.alive import awaken
from keenharbor.clone.facts import CloneFacts, find_clone, is_running, list_clones
from keenharbor.clone.gate import USER, Gate
from keenharbor.clone.mailbox import Mailbox
from keenharbor.clone.making import close_clone, make_clone, open_clone
from keenharbor.clone.server import free_port
from keenharbor.clone.visits import VisitRecord, wait_for_visitor
from keenharbor.database.kinds import NO_ENGINE
from keenharbor.host.ports import port_is_taken
from keenharbor.site.log import append_log
from keenharbor.snapshot import find_snapshot


@click.group(name="clone", context_settings={"help_option_names": ["-h", "--help"]})
def clone() -> None:
    """Make, list, open and close clones."""


@harbor_command(clone, name="make")
@click.argument("wanted", metavar="SNAPSHOT", default="newest")
@click.option("--port", type=click.IntRange(1, 65535), help="Its port on loopback.")
def make(session: Session, wanted: str, port: int | None) -> int:
    """Make a clone from SNAPSHOT, and see once whether it comes up. It is not served before 'clone open'.

    Exit code 0: its start page answers; 1: it fails, and the reason is quoted."""
    from keenharbor.base.errors import KeenHarborError

    site = session.site()
    found = find_snapshot(session.store(site), wanted, site.name)
    if port is not None and port_is_taken(port):
        raise KeenHarborError(f"port {port} is taken by another program", advice="name another port, or none")
    session.progress.stage(f"making a clone of snapshot {found.id}")
    made = make_clone(site, found, "by hand", mail_port=free_port(), port=port)
    made.keep()
    session.progress.stage("asking for its start page")
    seen = awaken(made)
    outcome = "done" if seen.good else "failed"
    append_log(site.work, site.name, "clone make", outcome, f"from {found.id}", made.id)

    def render(out: Console) -> None:
        if seen.good:
            show.headline(out, "done", f"clone {made.id} of snapshot {found.id}")
        else:
            answered = f"status {seen.status}" if seen.status else "no answer"
            show.headline(out, "failed", f"clone {made.id} does not come up: its start page gives {answered}")
            for reason in seen.reasons:
                out.print(show.said("damage", reason))
        cells = sum(made.facts.rewritten_cells.values())
        out.print(
            f"{plural(len(made.facts.rewritten_files), 'file')} and {plural(cells, 'cell')} rewritten to {made.address}"
        )
        for place in made.facts.opaque:
            out.print(show.said("caution", f"could not be rewritten: {place}"))
        shared = site.model.database.scratch_url is not None
        if shared and site.database.engine not in ("", NO_ENGINE):
            out.print(show.said("note", "its database is on a server that others use ('scratch_url')"))
        if seen.good:
            show.next_step(out, f"keenharbor clone open {made.id}")
        else:
            show.next_step(
                out, f"keenharbor clone open {made.id}   (to look at it), or: keenharbor clone close {made.id}"
            )

    session.show({**dataclasses.asdict(made.facts), "awake": dataclasses.asdict(seen)}, render)
    return 0 if seen.good else 1


@harbor_command(clone, name="list")
def list_command(session: Session) -> None:
    """List the clones that are there."""
    site = session.site()
    found = list_clones(site.work)

    def render(out: Console) -> None:
        if not found:
            out.print("There is no clone.")
            return
        rows = [(f.id, age(f.made), f"127.0.0.1:{f.port}", _state(f), f.purpose) for f in found]
        show.table(out, ("clone", "age", "address", "state", "made for"), rows, keep=(0, 1, 2, 3))

    session.show([{**dataclasses.asdict(f), "running": is_running(f)} for f in found], render)


def _state(facts: CloneFacts) -> str:
    return "unfinished" if not facts.whole else "running" if is_running(facts) else "stopped"


@harbor_command(clone, name="open")
@click.argument("wanted", metavar="CLONE")
@click.option("--seconds", type=click.FloatRange(min=0.1), help="End the visit after so long (until Ctrl-C).")
@click.option(
    "--steps", "steps_file", type=click.Path(path_type=Path), help="Write what you changed as steps into this file."
)
def open_command(session: Session, wanted: str, seconds: float | None, steps_file: Path | None) -> None:
    """Serve a clone on loopback for a visit, behind a password, until Ctrl-C; its mail is caught and told of.

    At the end it says what you changed, and can write it down as steps for a plan."""
    site = session.site()
    facts = find_clone(site.work, wanted)
    there = open_clone(site, facts.id)
    mail = site.model.mail
    port = int(there.site.settings()[mail.port]) if mail is not None else there.facts.mail_port
    # The gate stands where the clone's address leads; its server answers behind it.
    outside = facts.port
    there.serve_at(free_port())
    until = time.time() + seconds if seconds else None
    with tempfile.TemporaryDirectory(dir=there.folder) as scratch, Mailbox(port) as box, there:
        record = VisitRecord(there, Path(scratch) / "before")
        with Gate(outside, there.served_port, until) as gate:
            address = f"http://127.0.0.1:{outside}"
            told = {"clone": there.id, "address": address, "user": USER, "password": gate.password}

            def render(out: Console) -> None:
                show.headline(out, "done", f"clone {there.id} answers at {address} (Ctrl-C ends it)")
                out.print(f"user {USER}, password {gate.password}")
                for part in there.facts.open_parts:
                    out.print(show.said("caution", f"open to its programs: {part}"))
                if there.facts.not_blocked:
                    out.print(show.said("caution", f"its programs can reach the outside: {there.facts.not_blocked}"))

            session.show(told, render)
            seen = wait_for_visitor(there, box, until, session.progress)
        changed = record.changed()
    for line in changed.told[:20]:
        session.progress.note(line)
    if not changed.told:
        session.progress.note("nothing was changed")
    if steps_file is not None and changed.steps:
        write_durably(steps_file, changed.steps.encode())
        session.progress.note(f"steps that do it again: {steps_file}")
    append_log(site.work, site.name, "clone open", "done", f"{seen} mails caught", there.id)


@harbor_command(clone, name="close")
@click.argument("wanted", metavar="CLONE", required=False)
@click.option("--all", "everything", is_flag=True, help="Close every clone.")
def close(session: Session, wanted: str | None, everything: bool) -> None:
    """End a clone and remove every trace of it, also after a crash."""
    site = session.site()
    if bool(wanted) == everything:
        raise click.UsageError("name a clone, or --all")
    names = [f.id for f in list_clones(site.work)] if everything else [str(wanted)]
    gone = [close_clone(site.work, name, site).id for name in names]
    for identity in gone:
        append_log(site.work, site.name, "clone close", "done", "", identity)
    session.show({"closed": gone}, lambda out: show.headline(out, "done", f"{plural(len(gone), 'clone')} closed"))

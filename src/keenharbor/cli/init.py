"""``init``"""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
import tomlkit
from rich.console import Console
from rich.text import Text

from keenharbor.base.durable import write_durably
from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.base.text import plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.terminal import say
from keenharbor.site.draft import SITE_FILE_NAME, draft_site_file, lines_said, refuse_inside
from keenharbor.site.inference.evidence import Entry, Sureness, wanted_by
from keenharbor.site.inference.ground import Ground
from keenharbor.site.load import open_site, read_platform
from keenharbor.site.routines import LinePart
from keenharbor.site.toml import read_toml, with_value
from keenharbor.site.view import SiteView

if TYPE_CHECKING:
    from keenharbor.site.model import CheckPart

_MARKS = {Sureness.READ: "clear", Sureness.LIKELY: "note", Sureness.GUESSED: "caution", Sureness.MISSING: "caution"}


@harbor_command(name="init", site=False)
@click.argument("root", required=False)
@click.option(
    "--platform", "platform_file", type=click.Path(path_type=Path), help="A platform file that the site file extends."
)
@click.option("--key-file", metavar="FILE", help="The key of SSH for ssh://, where it is none of your usual ones.")
@click.option("--known-hosts", metavar="FILE", help="A file of known hosts for ssh://, instead of your own.")
@click.option("--line-password", metavar="REFERENCE", help="The password for ssh://: env:NAME or file:PATH.")
@click.option("--name", help="A short name for the site: small letters, digits, dashes.")
@click.option("--address", help="The site's address, when the site does not say it.")
@click.option(
    "--server-config",
    "server_configs",
    multiple=True,
    type=click.Path(path_type=Path),
    help="A web server's file on the site.",
)
@click.option("--launcher", "launchers", multiple=True, metavar="VERSION=PROGRAM", help="A runtime installed here.")
@click.option("--feed", type=click.Path(path_type=Path), help="The feed of releases.")
@click.option("--wheelhouse", type=click.Path(path_type=Path), help="A Python site's new releases: a folder of wheels.")
@click.option("--reload", help="The command by which the host takes up changed code.")
@click.option("--migrate", metavar="COMMAND", help="The command that brings the database up to new code.")
@click.option("--log-in", "member", metavar="USER", help="A member made for it: find the log-in, and try it.")
@click.option("--password", metavar="env:NAME|file:PATH", help="Where the member's password is; it is written nowhere.")
@click.option("--answers", type=click.Path(path_type=Path), help="A TOML file with these options, by their names.")
@click.option(
    "--maintenance/--no-maintenance",
    default=None,
    help="Put a maintenance gate into the site's front files (tried on a clone before), or take it out again.",
)
@click.option(
    "--gate-in",
    type=click.Choice(["code", "apache", "nginx"]),
    help="Where that gate is put: the site's code (the default), or rules for the web server.",
)
@click.option("--yes", is_flag=True, help="Take the best guess, ask nothing.")
@click.option(
    "--out",
    type=click.Path(path_type=Path),
    default=SITE_FILE_NAME,
    help="The site file to write (or to read, for --as-platform).",
)
@click.option(
    "--as-platform",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Make a platform file from the finished site file.",
)
@click.option("--pages", is_flag=True, help="Visit the site's pages, and propose checks from the forms on them.")
@click.option("--force", is_flag=True, help="Write over a file that is there.")
def init(
    session: Session, root: str | None, out: Path, as_platform: Path | None, answers: Path | None,
    maintenance: bool | None, gate_in: str | None, yes: bool, pages: bool, force: bool, **given: Any,
) -> int:  # fmt: skip
    """Describe the site in the folder ROOT (ssh://USER@HOST:PORT/FOLDER on another machine): write its site file.

    Everything is worked out from the site itself; each entry says from what, and how sure it is. Nothing of the site is
    run, and only the site file is written (and with --maintenance, shown before, the site's front files). With
    --platform, what sites of one system have in common is taken from that file."""
    if as_platform is not None:
        _write_platform(session, out, as_platform, force)
        return 0
    if gate_in is not None and not maintenance:
        raise UsageError("'--gate-in' says where a gate is put: it wants '--maintenance' beside it")
    if root is None and maintenance is not None:
        _maintenance(session, open_site(out), out, on=maintenance, yes=yes, wanted=gate_in)
        return 0
    if root is None:
        raise UsageError("which folder?", advice="keenharbor init FOLDER")
    if out.exists() and not force:
        raise UsageError(
            "there is a site file already", where=out, advice="add --force to write over it, or name another with --out"
        )
    said = _said(given, answers)
    text, entries, missing = _described(session, root, out, said, ask=not yes)
    write_durably(out, text.encode(), mode=0o644)
    site = open_site(out)
    if (pages or said.member) and _may_visit(session, site, said, ask=not yes):
        from keenharbor.site.inference.visited import learnt_between, rows_now

        before = rows_now(site)
        text += _from_the_pages(session, site, said, proposals=pages)
        learnt = learnt_between(before, rows_now(site))
        text = learnt.written_into(text)
        write_durably(out, text.encode(), mode=0o644)
        site = open_site(out)
        entries += [
            Entry("volatile", told, Sureness.READ, "it changed while the site was visited") for told in learnt.told
        ]
    if maintenance:
        _maintenance(session, site, out, on=True, yes=yes, wanted=gate_in)
        entries = [e for e in entries if e.key != "maintenance"]
    if site.model.log_in is None:
        how = "'--log-in USER --password env:NAME' finds it: without one a trial sees what visitors see"
        entries.append(Entry("look.log_in", "", Sureness.MISSING, how))
    told = {
        "site_file": str(out), "missing": missing, "wanted_by": wanted_by(entries),
        "entries": [e.as_json() for e in entries],
    }  # fmt: skip
    session.show(told, lambda console: _render(console, entries, out, missing))
    return 1 if missing else 0


@dataclass(frozen=True)
class _Said:
    """What was said on the command line, in a file of answers, or at a prompt. The names are those of the options."""

    platform_file: Path | None = None
    name: str | None = None
    address: str | None = None
    server_configs: tuple[Path, ...] = ()
    launchers: tuple[str, ...] = ()
    feed: Path | None = None
    wheelhouse: Path | None = None
    reload: str | None = None
    migrate: str | None = None
    member: str | None = None
    password: str | None = None
    core_version_file: str | None = None
    runtime_version: str | None = None
    serve: str | None = None
    key_file: str | None = None
    known_hosts: str | None = None
    line_password: str | None = None

    @property
    def line(self) -> LinePart:
        """How the machine is reached, where it is another."""
        told = {"key_file": self.key_file, "known_hosts": self.known_hosts, "password": self.line_password}
        return LinePart.model_validate({key: value for key, value in told.items() if value is not None})

    @property
    def programs(self) -> dict[str, str]:
        """The launchers by version."""
        found: dict[str, str] = {}
        for word in self.launchers:
            version, sign, program = word.partition("=")
            if not sign:
                raise UsageError(f"--launcher {word}: VERSION=PROGRAM is wanted")
            found[version] = program
        return found


_OPTIONS = {"platform": "platform_file", "server-config": "server_configs", "launcher": "launchers", "log-in": "member"}
_PATHS = ("platform_file", "feed", "server_configs", "wheelhouse")


def _said(given: dict[str, Any], answers: Path | None) -> _Said:
    """The options, and where they say nothing the file of answers. Raises `UsageError` for what it knows not."""
    said = {k: v for k, v in given.items() if v not in (None, ())}
    for option, value in (read_toml(answers, "file of answers") if answers is not None else {}).items():
        key = _OPTIONS.get(option, option.replace("-", "_"))
        if key not in _Said.__dataclass_fields__:
            known = sorted({k.replace("_", "-") for k in _Said.__dataclass_fields__} | set(_OPTIONS))
            raise UsageError(f"'{option}' is no answer", where=answers, advice=f"known: {', '.join(known)}")
        many = isinstance(_Said.__dataclass_fields__[key].default, tuple)
        values = [str(v) for v in value] if isinstance(value, list) else [str(value)]
        if key in _PATHS and answers is not None:
            values = [str(answers.absolute().parent / v) for v in values]
        told: Any = [Path(v) for v in values] if key in _PATHS else values
        said.setdefault(key, tuple(told) if many else told[0])
    if (said.get("member") is None) != (said.get("password") is None):
        raise UsageError("--log-in and --password go together", advice="--password env:NAME, or file:PATH")
    password = said.get("password")
    if password is not None and not password.startswith(("env:", "file:")):
        raise UsageError("a password is never written down", advice="--password env:NAME, or file:PATH")
    return _Said(**said)


def _described(session: Session, root: str, out: Path, said: _Said, *, ask: bool) -> tuple[str, list[Entry], list[str]]:
    """The site file's text, what was found, and the keys that are missing."""
    ground = Ground.at(root, out, said.line)
    if said.platform_file is not None:
        draft = draft_site_file(
            ground, said.platform_file, out, name=said.name, address=said.address, launchers=said.programs,
            feed=said.feed,
            reload=said.reload,
        )  # fmt: skip
        text, entries, missing = draft.text, list(draft.entries), list[str]()
    else:
        text, entries, missing = _infer(session, ground, out, said, ask=ask)
        text += _said_by_hand(said.programs, said.feed, said.reload, out.resolve().parent)
        if said.wheelhouse is not None:
            text = _with_wheelhouse(text, said.wheelhouse, out.resolve().parent)
    if ground.far:
        text += _line_said(said.line)
    return text, entries, missing


def _line_said(line: LinePart) -> str:
    """How the machine is reached, as a table of the site file; empty where nothing was said."""
    said = [f"{key} = {json.dumps(str(value))}" for key, value in line.model_dump(exclude_defaults=True).items()]
    return "\n".join(["", "[line]", *said, ""]) if said else ""


def _with_wheelhouse(text: str, wheelhouse: Path, home: Path) -> str:
    """The site file's text with the folder of wheels, from which packages come and which says what releases there
    are."""
    if not wheelhouse.is_dir():
        raise UsageError("the folder of wheels is not there", where=wheelhouse)
    place = os.path.relpath(wheelhouse.absolute(), home)
    document = tomlkit.parse(text)
    if "runtime" not in document or "packages" not in document["runtime"]:
        raise UsageError("a folder of wheels is for sites whose packages are Python distributions", where=wheelhouse)
    text = with_value(text, ["runtime"], "wheelhouse", place)
    return text if "feed" in document else f"{text.rstrip()}\n\n[feed]\nindex = {json.dumps(place)}\n"


def _may_visit(session: Session, site: SiteView, said: _Said, *, ask: bool) -> bool:
    """Whether the site's pages may be asked for: an address of this machine, one that was given, or that a person
    confirms."""
    from keenharbor.site.inference.address import is_here

    if is_here(site.address) or said.address is not None:
        return True
    if ask and sys.stdin.isatty() and not session.as_json:
        return click.confirm(f"Visit {site.address}?", default=False, err=True)
    session.progress.note(f"{site.address} is not visited unasked: name it with --address, and it is")
    return False


def _from_the_pages(session: Session, site: SiteView, said: _Said, *, proposals: bool) -> str:
    """What the pages say, as text for the site file: a log-in that works, and checks proposed from forms."""
    from keenharbor.compare import Visitor
    from keenharbor.compare.login import (
        CHECK,
        check_text,
        log_in_forms,
        routes_in,
        try_log_in,
        try_script_log_in,
        usual_paths,
    )
    from keenharbor.compare.proposals import first_look, proposals_in, propose_checks, writing_checks

    parts: list[str] = []
    with Visitor(site.address) as visitor:
        look = first_look(site, visitor, session.progress)
        if look is None:
            return ""
        if said.member is not None and said.password is not None:
            session.progress.stage(f"logging in as {said.member}")
            routes = [site.base + route for route in routes_in(site.path(), site.scan().entries)]
            tried = try_log_in(visitor, log_in_forms(visitor, look, routes, site.base), said.member, said.password)
            if tried.check is None:
                session.progress.stage("looking for a log-in that scripts build")
                paths = usual_paths(look, routes, site.base)
                tried = try_script_log_in(visitor, paths, said.member, said.password) or tried
            if tried.check is None:
                raise UsageError(
                    f"nobody could log in: {tried.problem}", where=site.address,
                    advice="see to the member and the password, then: keenharbor init … --force",
                )  # fmt: skip
            session.progress.note("logged in: trials will look at the pages behind it, too")
            parts += [f"\n[look]\nlog_in = {json.dumps(CHECK)}\n", check_text(tried.check)]
        if proposals:
            writing = writing_checks(look)
            proposed = propose_checks(look, visitor, {c.name for c in writing})
            proposed += _tried(session, site, writing) if writing else ""
            if proposed:
                session.progress.note(f"{plural(proposals_in(proposed), 'check')} proposed at the end of the site file")
                parts.append(proposed)
    return "\n" + "\n".join(parts) if parts else ""


def _tried(session: Session, site: SiteView, checks: Sequence[CheckPart]) -> str:
    """Checks of forms that write, tried on a clone, as text for the site file."""
    from keenharbor.clone.trying import try_on_a_clone
    from keenharbor.compare.proposals import Tried, told_as_text
    from keenharbor.live.snapshots import take_guarded
    from keenharbor.snapshot import TakeOptions

    try:
        options = TakeOptions(reason="before a trial")
        snapshot = take_guarded(site, session.store(site, create=True), options, session.progress)
        tried = try_on_a_clone(site, snapshot, checks, session.progress)
    except KeenHarborError as error:
        tried = [Tried(check, error.what) for check in checks]
    return "\n" + told_as_text(tried)


def _maintenance(
    session: Session, site: SiteView, out: Path, *, on: bool, yes: bool, wanted: str | None = None
) -> None:
    """Put a maintenance gate into the front files or a web server's rules, shown and tried before, or take it out."""
    from keenharbor.live.gate import gate_change, try_gate, try_rules, write_gate
    from keenharbor.site.gates import gate_for

    part = site.model.maintenance
    if on and part is not None and not part.gate:
        raise UsageError(
            "the site file names a maintenance flag already", where=out, advice="remove [maintenance] from it"
        )
    gate = site.gate
    if gate is None:
        if not on:
            raise UsageError("there is no maintenance gate to take out", where=out)
        settings = [site.settings_path] if site.model.settings is not None else []
        gate = gate_for(site.path(), site.scan().entries, site.model.runtime.name, settings, wanted, site.base)
    change = gate_change(site, gate, out=not on)
    if change.contents and not session.as_json:
        session.out.print(Text(change.shown()), soft_wrap=True)
    if on and change.contents:
        if gate.by_name:
            try_rules(gate, change, session.progress)
        else:
            try_gate(site, session.store(site, create=True), gate, session.progress)
        on_what = "a private web server" if gate.by_name else "a clone"
        session.progress.note(
            f"tried on {on_what}: it keeps visitors out while the flag stands, and lets the tool through"
        )
    what = "gets a maintenance gate" if on else "loses its maintenance gate"
    files = plural(len(change.contents), "file")
    session.confirm(
        f"The live site {site.address} {what}: {files} of it {'is' if len(change.contents) == 1 else 'are'} changed.",
        yes,
    )
    write_gate(site, change)
    document = tomlkit.parse(out.read_text(encoding="utf-8"))
    if on:
        table = tomlkit.table()
        table.update({"flag": gate.flag, "header": gate.header, "gate": list(gate.files)})
        document["maintenance"] = table
    else:
        document.pop("maintenance", None)
    write_durably(out, tomlkit.dumps(document).encode(), mode=0o644)
    open_site(out)
    if gate.language == "nginx":
        line = f"include {site.place}/{gate.files[0]};"
        session.progress.note(
            f"Put this line into the site's 'server' of nginx, and reload it: {line}" if on
            else f"Take this line out of the site's 'server' of nginx before you reload it: {line}"
        )  # fmt: skip


def _answers(address: str) -> bool:
    """Whether a site answers at an address of this machine."""
    from keenharbor.compare import Visitor
    from keenharbor.compare.visitor import VisitError
    from keenharbor.site.model import split_address

    host, base = split_address(address)
    try:
        with Visitor(host, timeout=5) as visitor:
            return 0 < visitor.get(f"{base}/").status < 500
    except (VisitError, ValueError):
        return False


def _infer(
    session: Session, ground: Ground, out: Path, said: _Said, *, ask: bool
) -> tuple[str, list[Entry], list[str]]:
    from keenharbor.site.inference.inferred import Given, entries_of, infer_site, unfound
    from keenharbor.site.inference.writing import missing_keys, site_file_text, site_name

    for file in said.server_configs:
        if not file.is_file():
            raise UsageError("this web server's file is not there", where=file)
    refuse_inside(ground, out)
    given = Given(
        said.name, said.address, said.server_configs, said.core_version_file, said.runtime_version, said.serve,
        said.migrate,
    )  # fmt: skip
    found = infer_site(ground, given, progress=session.progress, visit=_answers)
    if ask and sys.stdin.isatty() and not session.as_json:
        for what, key in unfound(found):
            answer = click.prompt(f"{what} (Enter: later, in the site file)", default="", show_default=False, err=True)
            if not answer:
                continue
            try:
                told: Any = {key: answer}
                tried = replace(given, **told)
                found = infer_site(ground, tried, visit=_answers)
                given = tried
            except UsageError as error:
                say(f"  {error.what}: {error.where or answer}; write it into the site file")
    entries = entries_of(found)
    chosen, why = site_name(found, given)
    entries.insert(1, Entry("site.name", chosen, Sureness.READ if said.name else Sureness.GUESSED, why))
    return site_file_text(found, given, out.resolve().parent), entries, list(missing_keys(found))


def _said_by_hand(programs: dict[str, str], feed: Path | None, reload: str | None, home: Path) -> str:
    return "\n".join(lines_said(programs, feed, reload, home)) + "\n" if programs or feed or reload else ""


def _write_platform(session: Session, site_file: Path, platform: Path, force: bool) -> None:
    from keenharbor.site.inference.writing import platform_text

    if platform.exists() and not force:
        raise UsageError(
            "there is a file already", where=platform, advice="add --force to write over it, or name another one"
        )
    write_durably(platform, platform_text(site_file).encode(), mode=0o644)
    read_platform(platform)

    def render(out: Console) -> None:
        show.headline(out, "done", f"{platform} is written")
        show.next_step(out, f"keenharbor init FOLDER --platform {platform}   (for the next site of this system)")

    session.show({"platform_file": str(platform)}, render)


def _render(out: Console, entries: list[Entry], file: Path, missing: list[str]) -> None:
    show.headline(out, "caution" if missing else "done", f"{file} is written")
    rows = []
    for entry in entries:
        value = Text(entry.value, style="bold") if entry.value else Text("")
        value.append(("\n" if entry.value else "") + entry.evidence, style="not bold dim")
        rows.append((show.mark(_MARKS[entry.sure], entry.sure.value), entry.key, value))
    show.table(out, ("how sure", "entry", "value, and from what"), rows, keep=(0, 1))
    guessed = [e.key or e.value for e in entries if e.sure is Sureness.GUESSED]
    out.print()
    if guessed:
        out.print(show.said("caution", f"guessed, look at them in {file}: {', '.join(guessed)}"))
    for stage, keys in wanted_by(entries).items():
        out.print(show.said("caution", f"not found, wanted by {stage}: {', '.join(keys)}"))
    for key in missing:
        out.print(show.said("caution", f"{key} has to be written into {file}"))
    show.next_step(out, "look through it, then: keenharbor survey")

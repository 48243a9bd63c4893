"""``init``"""

from __future__ import annotations

import sys
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.durable import write_durably
from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.base.text import plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.terminal import say
from keenharbor.site.draft import SITE_FILE_NAME, draft_site_file, lines_said, refuse_inside
from keenharbor.site.inference.evidence import Entry, Sureness
from keenharbor.site.load import open_site, read_platform
from keenharbor.site.view import SiteView

_MARKS = {Sureness.READ: "clear", Sureness.LIKELY: "note", Sureness.GUESSED: "caution", Sureness.MISSING: "caution"}


@harbor_command(name="init", site=False)
@click.argument("root", type=click.Path(path_type=Path), required=False)
@click.option(
    "--platform", "platform_file", type=click.Path(path_type=Path), help="A platform file that the site file extends."
)
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
@click.option("--reload", help="The command by which the host takes up changed code.")
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
    session: Session, root: Path | None, platform_file: Path | None, name: str | None, address: str | None,
    server_configs: tuple[Path, ...], launchers: tuple[str, ...], feed: Path | None, reload: str | None, yes: bool,
    out: Path,
    as_platform: Path | None, pages: bool, force: bool,
) -> int:  # fmt: skip
    """Describe the site in the folder ROOT: write its site file.

    Everything is worked out from the site itself; each entry says from what, and how sure it is. Nothing of the site is
    run, and only the site file is written. With --platform, what sites of one system have in common is taken from that
    file."""
    if as_platform is not None:
        _write_platform(session, out, as_platform, force)
        return 0
    if root is None:
        raise UsageError("which folder?", advice="keenharbor init FOLDER")
    if out.exists() and not force:
        raise UsageError(
            "there is a site file already", where=out, advice="add --force to write over it, or name another with --out"
        )
    programs: dict[str, str] = {}
    no_more: list[str] = []
    for word in launchers:
        version, sign, program = word.partition("=")
        if not sign:
            raise UsageError(f"--launcher {word}: VERSION=PROGRAM is wanted")
        programs[version] = program
    if platform_file is not None:
        draft = draft_site_file(
            root, platform_file, out, name=name, address=address, launchers=programs, feed=feed, reload=reload
        )
        text, entries, missing = draft.text, list(draft.entries), no_more
    else:
        text, entries, missing = _infer(session, root, out, name, address, server_configs, ask=not yes)
        text += _said_by_hand(programs, feed, reload, out.resolve().parent)
    write_durably(out, text.encode(), mode=0o644)
    site = open_site(out)
    if pages and (proposed := _proposed(session, site)):
        write_durably(out, f"{text}\n{proposed}".encode(), mode=0o644)
        open_site(out)
    told = {"site_file": str(out), "missing": missing, "entries": [e.as_json() for e in entries]}
    session.show(told, lambda console: _render(console, entries, out, missing))
    return 1 if missing else 0


def _answers(address: str) -> bool:
    """Whether a site answers at an address of this machine."""
    from keenharbor.compare import Visitor

    try:
        with Visitor(address, timeout=5) as visitor:
            return 0 < visitor.get("/").status < 500
    except (KeenHarborError, OSError, ValueError):
        return False


def _infer(
    session: Session, root: Path, out: Path, name: str | None, address: str | None, server_configs: Sequence[Path], *,
    ask: bool
) -> tuple[str, list[Entry], list[str]]:  # fmt: skip
    from keenharbor.host import Here
    from keenharbor.site.inference.ground import Ground
    from keenharbor.site.inference.inferred import Given, entries_of, infer_site, unfound
    from keenharbor.site.inference.writing import missing_keys, site_file_text, site_name

    for file in server_configs:
        if not file.is_file():
            raise UsageError("this web server's file is not there", where=file)
    refuse_inside(root.resolve(), out)
    given = Given(name, address, tuple(server_configs))
    ground = Ground(Here(out.resolve().parent), str(root.resolve()))
    found = infer_site(ground, given, progress=session.progress, visit=_answers)
    if ask and sys.stdin.isatty() and not session.as_json:
        for what, key in unfound(found):
            said = click.prompt(f"{what} (Enter: later, in the site file)", default="", show_default=False, err=True)
            if not said:
                continue
            try:
                answer: dict[str, Any] = {key: said}
                tried = replace(given, **answer)
                found = infer_site(ground, tried, visit=_answers)
                given = tried
            except UsageError as error:
                say(f"  {error.what}: {error.where or said}; write it into the site file")
    entries = entries_of(found)
    chosen, why = site_name(found, given)
    entries.insert(1, Entry("site.name", chosen, Sureness.READ if name else Sureness.GUESSED, why))
    return site_file_text(found, given, out.resolve().parent), entries, list(missing_keys(found))


def _proposed(session: Session, site: SiteView) -> str:
    from keenharbor.compare.proposals import proposals_in, propose_for_site

    proposed = propose_for_site(site, session.progress)
    if proposed:
        count = plural(proposals_in(proposed), "check")
        session.progress.note(f"{count} proposed at the end of the site file")
    return proposed


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
    guessed = sum(e.sure is Sureness.GUESSED for e in entries)
    if guessed:
        out.print()
        out.print(show.said("caution", f"{plural(guessed, 'entry', 'entries')} guessed: look at them in {file}"))
    for key in missing:
        out.print(show.said("caution", f"{key} has to be written into {file}"))
    show.next_step(out, "look through it, then: keenharbor survey")

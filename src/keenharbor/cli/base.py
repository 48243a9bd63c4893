"""What every command shares: its options, its session, its output."""

from __future__ import annotations

import functools
import sys
import time
from collections.abc import Callable, Collection
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from rich.console import Console

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.base.text import duration, size, visible
from keenharbor.cli.terminal import PASSING, SafeConsole, say, say_json
from keenharbor.site.whereabouts import SITE_FILE_NAME, Whereabouts, whereabouts_of

if TYPE_CHECKING:
    from keenharbor.database.readonly import ReadDatabase
    from keenharbor.site.feed import Feed
    from keenharbor.site.survey import NewestSnapshot
    from keenharbor.site.view import SiteView
    from keenharbor.store import Store


class Session:
    """One run of a command: where it prints, and the site that it is about."""

    def __init__(self, as_json: bool, site_file: Path | None) -> None:
        self.as_json = as_json
        self._site_file = site_file
        self._opened: SiteView | Whereabouts | None = None
        # Long lines are folded by the console; a pipe gets 80 columns unless COLUMNS says otherwise.
        self.out: Console = SafeConsole(highlight=False, soft_wrap=False, markup=False, emoji=False)
        self.progress = TerminalProgress(quiet=as_json)

    @property
    def site_file(self) -> Path:
        """The site file that was named, or the one in this folder."""
        return self._site_file or Path(SITE_FILE_NAME)

    def site(self) -> SiteView:
        """The live site that the site file describes."""
        from keenharbor.site.load import open_site

        self._opened = opened = open_site(self.site_file)
        return opened

    def site_if_there(self) -> SiteView | None:
        """The live site; None where its folder is gone, which is when snapshots are wanted most."""
        at = self.whereabouts()
        if not at.far:
            return self.site() if at.root.is_dir() else None
        try:
            return self.site()
        except KeenHarborError as error:
            self.progress.note(f"the site cannot be reached now: {error.what}")
            return None

    def live_database(self) -> ReadDatabase | None:
        """Where the live site's database is, as far as the site file says it without the site's folder."""
        from keenharbor.database.readonly import ReadDatabase
        from keenharbor.site.load import database_if_said

        try:
            return ReadDatabase(database_if_said(self.whereabouts()))
        except (KeenHarborError, OSError):
            return None

    def whereabouts(self) -> Whereabouts:
        """Where the site's store and log are: enough for what only lists."""
        self._opened = found = whereabouts_of(self.site_file)
        return found

    def note_stop(self, command: str, how: str) -> None:
        """Note in the site's log that a command was stopped before its end; where that cannot be, it is told."""
        from keenharbor.site.log import append_log

        if self._opened is not None and self._opened.work.is_dir():
            try:
                append_log(self._opened.work, self._opened.name, command, "stopped", how or "by Ctrl-C")
            except OSError as error:
                self.progress.note(f"that it was stopped is not in the log: {error.strerror}")

    def feed(self, site: SiteView, channels: Collection[str] = ()) -> Feed:
        """The site's feed, with the releases of ``channels`` (none: those of the site file); one that knows nothing
        where the site file names none. Raises `UsageError` when it has none of a channel."""
        from keenharbor.site.feed import NoFeed

        found = self.feed_if_any(site)
        if found is not None:
            strange = sorted(set(channels) - {r.channel for r in found.releases}) if found.has_packages else []
            if strange:
                raise UsageError(f"the feed has no release of the channel '{strange[0]}'", where=site.site_file)
            assert site.model.feed is not None
            found = found.within(channels or site.model.feed.channels)
        if found is None and channels:
            raise UsageError("no feed of releases is named", where=site.site_file, advice="add [feed] with its path")
        return found if found is not None else NoFeed(site.site_file)

    def feed_if_any(self, site: SiteView) -> Feed | None:
        from keenharbor.site.sitefeed import feed_of

        return feed_of(site)

    def store(self, site: SiteView | Whereabouts, create: bool = False) -> Store:
        from keenharbor.store import Store

        return Store.create(site.store_folder) if create else Store(site.store_folder)

    def newest_snapshot(self, site: SiteView) -> NewestSnapshot | None:
        from keenharbor.site.survey import NewestSnapshot
        from keenharbor.snapshot import list_snapshots

        if not (site.store_folder / "store.json").exists():
            return None
        known = list_snapshots(self.store(site), site.name)
        if not known:
            return None
        proof = known[0].proven
        return NewestSnapshot(known[0].id, known[0].taken_at, proof.at if proof else None)

    def show(self, value: Any, render: Callable[[Console], None]) -> None:
        """``value`` as the one JSON document, or ``render`` for people."""
        if self.as_json:
            say_json(value)
        else:
            render(self.out)

    def person(self) -> Callable[[str], None] | None:
        """What shows a person what to do and waits until they say that it is done; None where nobody is there to
        ask."""
        if not sys.stdin.isatty() or self.as_json:
            return None

        def ask(what: str) -> None:
            say(f"\n{what}\n")
            click.prompt("Type Enter when it is done", default="", show_default=False, prompt_suffix=" ", err=True)

        return ask

    def confirm(self, question: str, yes: bool) -> None:
        """Ask before anything is overwritten; without a terminal only ``--yes`` goes on."""
        if yes:
            return
        if not sys.stdin.isatty() or self.as_json:
            raise UsageError(f"{question} Nobody is there to ask", advice="add --yes to go on")
        PASSING.wipe()
        click.confirm(visible(question) + " Go on?", abort=True, err=True)


_SHOWN_EVERY_SECONDS = 0.1


def _pace(done: int, total: int, unit: str, seconds: float) -> str:
    """How far it is, how fast it goes, how long it will take: ``42 %  38.1 MiB/s  12 s left``."""
    parts = [f"{100 * min(done, total) // total} %"] if total else []
    if seconds > 0.5 and done:
        rate = done / seconds
        parts.append(f"{size(rate)}/s" if unit == "byte" else f"{rate:,.{0 if rate >= 10 else 1}f} {unit}s/s")
        if total > done:
            parts.append(f"{duration((total - done) / rate)} left")
    return "  ".join(parts)


class TerminalProgress:
    """Progress on standard error: a line a stage; on a terminal also how far, how fast and how long yet, wiped away."""

    def __init__(self, quiet: bool) -> None:
        self._quiet = quiet
        self._terminal = sys.stderr.isatty()
        self._began = 0.0
        self._told = 0.0

    def stage(self, text: str) -> None:
        self._began = 0.0
        if not self._quiet:
            say(text, click.style("· ", fg="cyan"))

    def note(self, text: str) -> None:
        if not self._quiet:
            say(f"    {text}")

    def advance(self, done: int, total: int, unit: str) -> None:
        if self._quiet or not self._terminal:
            return
        now = time.monotonic()
        if not self._began:
            self._began = self._told = now
        if now - self._told < _SHOWN_EVERY_SECONDS:
            return
        self._told = now
        PASSING.show(f"    {_pace(done, total, unit, now - self._began)}")


def _close_lines() -> None:
    """End the lines to other machines, where there are any; what is left of them there goes at once."""
    module = sys.modules.get("keenharbor.host.far.line")
    if module is not None:
        module.close_lines()


def harbor_command(
    group: click.Group | None = None, *, name: str, site: bool = True, hidden: bool = False
) -> Callable[..., Any]:
    """A command with ``--json`` and ``--debug`` (and ``--site``), whose function gets a `Session` first and returns
    its exit code or None. One that is ``hidden`` the tool itself calls, and no list shows."""

    def decorate(function: Callable[..., int | None]) -> click.Command:
        @functools.wraps(function)
        def run(as_json: bool, debug: bool, site_file: Path | None = None, **given: Any) -> int:
            session = Session(as_json, site_file)
            try:
                return function(session, **given) or 0
            except KeyboardInterrupt as stop:
                session.note_stop(name if group is None else f"{group.name} {name}", str(stop))
                raise
            finally:
                _close_lines()

        options = [
            click.option("--json", "as_json", is_flag=True, help="Print one JSON document instead of text."),
            click.option("--debug", is_flag=True, help="Show the whole story of an error."),
        ]
        if site:
            options.insert(
                0,
                click.option(
                    "--site", "site_file", type=click.Path(path_type=Path), help=f"The site file (./{SITE_FILE_NAME})."
                ),
            )
        callback: Callable[..., Any] = run
        for option in options:
            callback = option(callback)
        # The first sentence, whole: Click would cut it at the width of the list.
        summary = " ".join((function.__doc__ or "").split("\n\n")[0].split()).split(". ")[0].rstrip(".") + "."
        made = click.command(name=name, short_help=summary, hidden=hidden)(callback)
        if group is not None:
            group.add_command(made)
        return made

    return decorate

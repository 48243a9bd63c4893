"""The entry point. Imports nothing but Click, so that ``--help`` is quick; each command's module loads when it is
used."""

from __future__ import annotations

import importlib
import signal
import sys
from typing import Any, NoReturn

import click

from keenharbor import __version__

Commands = dict[str, tuple[str, str]]

COMMANDS: Commands = {
    "manual": ("keenharbor.cli.manual:manual", "Read the manual, topic by topic."),
    "init": ("keenharbor.cli.init:init", "Describe a site: write its site file."),
    "reach": ("keenharbor.cli.reach:reach_command", "Show how the site's machine is reached, and what it offers."),
    "survey": ("keenharbor.cli.survey:survey", "Say what a site is made of, what is pending, what was edited."),
    "ready": ("keenharbor.cli.ready:ready", "Judge whether a site can go to a target."),
    "snapshot": ("keenharbor.cli.snapshotgroup:snapshot", "Save files and database; list, verify, restore."),
    "place": ("keenharbor.cli.place:place", "Send snapshots, sealed, to second places; verify, thin them."),
    "fetch": ("keenharbor.cli.place:fetch_command", "Bring the store back from a place, with the key alone."),
    "tend": ("keenharbor.cli.tend:tend_command", "Do what is due: saves, sending, checks; tell who is to be told."),
    "fleet": ("keenharbor.cli.fleetgroup:fleet", "One command for many sites, one table, worst first."),
    "plan": ("keenharbor.cli.plan:plan", "Draft the plan of an upgrade, check it, read it."),
    "trial": ("keenharbor.cli.trial:trial", "Rehearse the plan on a disposable clone."),
    "clone": ("keenharbor.cli.clone:clone", "Make, list, open and close clones."),
    "compare": ("keenharbor.cli.compare:compare", "Compare two of: live, a snapshot, a clone."),
    "cutover": ("keenharbor.cli.cutover:cutover", "Carry the rehearsed plan out on the live site."),
    "watch": ("keenharbor.cli.watch:watch", "Hold live against how it arrived, days after a cutover."),
    "rollback": ("keenharbor.cli.rollback:rollback", "Go back, keeping what visitors did meanwhile."),
    "move": ("keenharbor.cli.move:move_command", "Move the site to another machine, folder, address or server."),
    "settle": ("keenharbor.cli.settle:settle", "Finish or undo what was interrupted."),
    "log": ("keenharbor.cli.log:log", "Show what was done, when, with what outcome."),
    "demo": ("keenharbor.cli.demo:demo", "Play a full example on a made-up site."),
}


class LazyGroup(click.Group):
    """A group whose commands are imported when they are called; their one-line helps are known beforehand."""

    def __init__(self, *args: Any, lazy: Commands, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._lazy = lazy

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(self._lazy)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in self._lazy:
            return None
        module, _, name = self._lazy[cmd_name][0].partition(":")
        found = getattr(importlib.import_module(module), name)
        assert isinstance(found, click.Command)
        return found

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, text) for name, (_, text) in self._lazy.items()])


@click.group(
    cls=LazyGroup,
    lazy=COMMANDS,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    epilog="Exit codes: 0 good, 1 done but found something, 2 wrong usage, 3 failed and nothing changed, "
    "4 failed and put back, 5 interrupted: settle it.",
)
@click.version_option(__version__, prog_name="keenharbor", message="%(prog)s %(version)s")
def cli() -> None:
    """Ready a content-managed site for an upgrade: look at it, snapshot it, rehearse the upgrade on a clone, compare,
    carry it out on the live site, and go back without losing what visitors did meanwhile.

    Start with 'keenharbor demo', or with 'keenharbor init' in a folder outside your site's."""


def _stop(number: int, frame: object) -> NoReturn:
    """Clean up as after Ctrl-C. Asked again meanwhile, go on cleaning up."""
    from keenharbor.base.errors import Stopped

    for other in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(other, signal.SIG_IGN)
    raise Stopped(f"stopped by {signal.Signals(number).name}")


def main() -> NoReturn:
    """Run the command line and exit with its code."""
    arguments = sys.argv[1:]
    signal.signal(signal.SIGTERM, _stop)
    if signal.getsignal(signal.SIGHUP) is not signal.SIG_IGN:  # nohup stays as it is
        signal.signal(signal.SIGHUP, _stop)
    try:
        code = cli.main(arguments, prog_name="keenharbor", standalone_mode=False)
    except click.exceptions.NoArgsIsHelpError as error:
        click.echo(error.ctx.get_help() if error.ctx else "", err=True)
        sys.exit(2)
    except (Exception, KeyboardInterrupt) as error:
        from keenharbor.cli.failure import tell

        sys.exit(tell(error, as_json="--json" in arguments, debug="--debug" in arguments))
    sys.exit(code if isinstance(code, int) else 0)


if __name__ == "__main__":
    main()

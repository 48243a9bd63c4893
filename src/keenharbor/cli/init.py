"""``init``"""

from __future__ import annotations

from pathlib import Path

import click
from rich.console import Console

from keenharbor.base.durable import write_durably
from keenharbor.base.errors import UsageError
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.site.draft import SITE_FILE_NAME, Draft, draft_site_file
from keenharbor.site.load import open_site


@harbor_command(name="init", site=False)
@click.argument("root", type=click.Path(path_type=Path))
@click.option("--platform", "platform_file", type=click.Path(path_type=Path), required=True, help="The platform file.")
@click.option("--name", help="A short name for the site: small letters, digits, dashes.")
@click.option("--address", help="The site's address, when its settings do not say it.")
@click.option("--launcher", "launchers", multiple=True, metavar="VERSION=PROGRAM", help="A runtime installed here.")
@click.option("--feed", type=click.Path(path_type=Path), help="The feed of releases.")
@click.option("--reload", help="The command by which the host takes up changed code.")
@click.option("--out", type=click.Path(path_type=Path), default=SITE_FILE_NAME, help="Where to write the site file.")
@click.option("--force", is_flag=True, help="Write over a site file that is there.")
def init(
    session: Session, root: Path, platform_file: Path, name: str | None, address: str | None, launchers: tuple[str, ...],
    feed: Path | None, reload: str | None, out: Path, force: bool,
) -> None:  # fmt: skip
    """Describe the site in the folder ROOT: write its site file.

    What the site's own settings say is read; what cannot be read is guessed and marked so. Only the site file is
    written."""
    if out.exists() and not force:
        raise UsageError(
            "there is a site file already", where=out, advice="add --force to write over it, or name another with --out"
        )
    programs = {}
    for word in launchers:
        version, sign, program = word.partition("=")
        if not sign:
            raise UsageError(f"--launcher {word}: VERSION=PROGRAM is wanted")
        programs[version] = program
    draft = draft_site_file(
        root, platform_file, out, name=name, address=address, launchers=programs, feed=feed, reload=reload
    )
    write_durably(out, draft.text.encode(), mode=0o644)
    open_site(out)
    told = {"site_file": str(out), "entries": [vars(e) for e in draft.entries]}
    session.show(told, lambda console: _render(console, draft, out))


def _render(out: Console, draft: Draft, file: Path) -> None:
    show.headline(out, "done", f"{file} is written")
    rows = [(e.key, e.value, show.mark("clear", "read") if e.sure else show.mark("caution", "guessed"), e.evidence)
            for e in draft.entries]  # fmt: skip
    show.table(out, ("entry", "value", "how", "evidence"), rows, keep=(0, 2))
    show.next_step(out, "look through it, then: keenharbor survey")

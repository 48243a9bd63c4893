"""``demo``"""

from __future__ import annotations

import contextlib
import io
import os
import shlex
import shutil
import sys
import time
from collections.abc import Callable, Sequence
from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.text import duration
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.failure import tell
from keenharbor.cli.main import cli
from keenharbor.database import ENGINES
from keenharbor.demo.scene import Scene
from keenharbor.demo.story import Told, play, shell


class _Player:
    """Plays commands within this process, as if they had been typed in the demonstration's folder."""

    def __init__(self, out: Console, folder: Path, quiet: bool) -> None:
        self._out, self._folder, self._quiet = out, folder, quiet

    def run(self, *words: str) -> int:
        self._print(Text.assemble(("$ ", "dim"), ("keenharbor " + shlex.join(words), "bold cyan")))
        hidden = io.StringIO()
        with contextlib.ExitStack() as stack:
            stack.enter_context(contextlib.chdir(self._folder))
            if self._quiet:
                stack.enter_context(contextlib.redirect_stdout(hidden))
                stack.enter_context(contextlib.redirect_stderr(hidden))
            try:
                code = cli.main(list(words), prog_name="keenharbor", standalone_mode=False)
            except Exception as error:
                code = tell(error, as_json=False, debug=False)
        return code if isinstance(code, int) else 0

    def say(self, text: str) -> None:
        self._print(Text("# " + text, style="green"))

    def chapter(self, title: str) -> None:
        self._print(Text())
        self._print(Text(f"== {title} ==", style="bold"))

    def shell(self, words: Sequence[str]) -> str:
        self._print(Text.assemble(("$ ", "dim"), (shlex.join(words), "cyan")))
        return shell(self._folder, words)

    def _print(self, text: Text) -> None:
        if not self._quiet:
            self._out.print(text)


@harbor_command(name="demo", site=False)
@click.option("--dir", "folder", type=click.Path(path_type=Path), default="harbor-demo", help="The folder to play in.")
@click.option("--port", type=click.IntRange(1, 65535), help="The live site's port on loopback.")
@click.option("--database", "engine", type=click.Choice(ENGINES), default=ENGINES[0],
              help="What the site keeps its data in; a server is started in the folder.")  # fmt: skip
@click.option("--serve", is_flag=True, help="Leave the site running at the end, until Ctrl-C.")
def demo(session: Session, folder: Path, port: int | None, engine: str, serve: bool) -> None:
    """Play a full example: a made-up seed library is surveyed, judged, snapshotted, upgraded on a clone, compared, cut
    over, and rolled back. Everything happens in one folder, which is left to play in."""
    began = time.monotonic()
    player = _Player(session.out, folder, session.as_json)
    ended: list[float] = []
    told = play(folder, player, port, _serving(session, ended) if serve else None, engine)
    seconds = (ended[0] if ended else time.monotonic()) - began
    session.show({**told.as_json(), "seconds": round(seconds, 2)}, lambda out: _render(out, told, seconds))


def _serving(session: Session, ended: list[float]) -> Callable[[Scene], None]:
    """Keeps the site up until Ctrl-C; notes in ``ended`` when the story was over."""

    def wait(scene: Scene) -> None:
        ended.append(time.monotonic())
        session.progress.stage(f"the site answers at {scene.address} (Ctrl-C ends it)")
        with contextlib.suppress(KeyboardInterrupt):
            while True:
                time.sleep(0.5)

    return wait


def _render(out: Console, told: Told, seconds: float) -> None:
    show.headline(out, "done", f"the story took {duration(seconds)}; its folder is {told.folder}")
    # Not everybody has the program on the path: then it is shown as it was started.
    program = "keenharbor" if shutil.which("keenharbor") else os.path.relpath(sys.argv[0], told.folder)
    show.next_step(out, f"cd {os.path.relpath(told.folder)} && {program} survey")

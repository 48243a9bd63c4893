"""The one way to a terminal: what comes from names, cells, labels, pages and servers cannot do anything there."""

from __future__ import annotations

import json
from collections.abc import Iterable

import click
from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment

from keenharbor.base.text import visible


class _Passing:
    """The line of progress that stands on the terminal now; whatever is said next wipes it."""

    def __init__(self) -> None:
        self._shown = ""

    def show(self, text: str) -> None:
        if text != self._shown:
            padding = " " * max(0, len(self._shown) - len(text))
            self._shown = text
            click.echo("\r" + text + padding, err=True, nl=False)

    def wipe(self) -> None:
        if self._shown:
            click.echo("\r" + " " * len(self._shown) + "\r", err=True, nl=False)
            self._shown = ""


PASSING = _Passing()


class SafeConsole(Console):
    """A console that shows control characters instead of carrying them out; its own styles are no part of a text."""

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        PASSING.wipe()
        for segment in super().render(renderable, options):
            if segment.control or segment.text.isprintable():
                yield segment
            else:
                yield Segment(visible(segment.text), segment.style, segment.control)


def say(text: str, mark: str = "", *, end: str = "\n") -> None:
    """A line on standard error; ``mark`` is the tool's own and may have colours."""
    PASSING.wipe()
    click.echo(mark + visible(text) + end, err=True, nl=False)


def say_json(value: object) -> None:
    """The one JSON document on standard output; everything beyond ASCII is escaped in it."""
    PASSING.wipe()
    click.echo(json.dumps(value, indent=1, default=str).replace("\x7f", "\\u007f"))

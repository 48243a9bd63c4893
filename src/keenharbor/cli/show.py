"""How things look on a terminal: verdicts with a word and a symbol, tables that fit, worst first."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from rich.console import Console, RenderableType
from rich.table import Table
from rich.text import Text

from keenharbor.base.text import plural
from keenharbor.compare import Finding

SYMBOLS = {
    "clear": ("✓", "green"), "pass": ("✓", "green"), "good": ("✓", "green"), "done": ("✓", "green"), "proven": ("✓", "green"),
    "settled": ("✓", "green"), "caution": ("!", "yellow"), "review": ("!", "yellow"), "doubt": ("!", "yellow"),
    "not proven": ("!", "yellow"), "put back": ("!", "yellow"), "interrupted": ("!", "yellow"), "blocked": ("✗", "red"),
    "fail": ("✗", "red"), "damage": ("✗", "red"), "damaged": ("✗", "red"), "failed": ("✗", "red"), "note": ("·", "cyan"),
    "pending": ("↑", "yellow"),
}  # fmt: skip


def mark(word: str, shown: str | None = None) -> Text:
    """A verdict: symbol, word, and (as a help only) colour."""
    symbol, colour = SYMBOLS.get(word, ("·", ""))
    return Text(f"{symbol} {shown or word}", style=f"bold {colour}".strip())


def headline(out: Console, verdict: str, text: str) -> None:
    """The outcome on a line of its own, between blank lines."""
    out.print()
    line = mark(verdict, verdict.upper())
    line.append("  " + text, style="default not bold")
    out.print(line)
    out.print()


def heading(out: Console, text: str) -> None:
    out.print()
    out.print(Text(text, style="bold underline"))


def pairs(out: Console, rows: Iterable[tuple[str, RenderableType]]) -> None:
    """Names and values in two columns."""
    table = Table.grid(padding=(0, 2))
    table.add_column(style="dim", no_wrap=True)
    table.add_column(overflow="fold")
    for name, value in rows:
        table.add_row(name, value)
    out.print(table)


def table(
    out: Console, columns: Sequence[str], rows: Iterable[Sequence[RenderableType]], right: Sequence[int] = (),
    keep: Sequence[int] = (0,),
) -> None:  # fmt: skip
    """A plain table; columns in ``right`` are numbers, those in ``keep`` are not folded."""
    made = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    for number, name in enumerate(columns):
        made.add_column(
            name,
            justify="right" if number in right else "left",
            no_wrap=number in keep or number in right,
            overflow="fold",
        )
    for row in rows:
        made.add_row(*row)
    out.print(made)


def findings(out: Console, found: Sequence[Finding]) -> None:
    """Findings one below the other: weight, what, where, by which step."""
    for finding in found:
        line = mark(finding.weight.value)
        line.append("  " + finding.text, style="default not bold")
        out.print(line)
        told = []
        if finding.step:
            told.append(
                (
                    "step",
                    finding.step
                    + (f" (could not be seen since {finding.hidden_since})" if finding.hidden_since else ""),
                )
            )
        if finding.pages:
            told.append(("pages", pages_of(finding)))
        if finding.kind == "edit-wiped":
            told += [
                ("edit", line[:100]) for line in finding.before.splitlines() if line[:1] == "+" and line[:2] != "++"
            ]
        elif finding.before:
            told += [("before", finding.before), ("after", finding.after or "(nothing)")]
        elif finding.after and finding.after not in finding.text:
            told.append(("said", finding.after))
        details = Table.grid(padding=(0, 2))
        details.add_column(style="dim", no_wrap=True, min_width=6)
        details.add_column(overflow="fold")
        for name, value in told:
            details.add_row(name, value)
        if told:
            grid = Table.grid()
            grid.add_column(min_width=10)
            grid.add_column(overflow="fold")
            grid.add_row("", details)
            out.print(grid)


def pages_of(finding: Finding, most: int = 3) -> str:
    shown = ", ".join(finding.pages[:most])
    more = len(finding.pages) - most
    return shown + (f" and {plural(more, 'more page')}" if more > 0 else "")


def next_step(out: Console, text: str) -> None:
    out.print()
    line = Text("next:  ", style="dim")
    line.append(text, style="bold")
    out.print(line)

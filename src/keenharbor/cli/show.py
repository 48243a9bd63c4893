"""How things look on a terminal: verdicts with a word and a symbol, tables that fit, worst first."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

from rich.console import Console, RenderableType
from rich.table import Table
from rich.text import Text

from keenharbor.base.text import plural

if TYPE_CHECKING:
    from keenharbor.compare import Finding

SYMBOLS = {
    "clear": ("✓", "green"), "pass": ("✓", "green"), "good": ("✓", "green"), "done": ("✓", "green"),
    "proven": ("✓", "green"),
    "settled": ("✓", "green"), "caution": ("!", "yellow"), "review": ("!", "yellow"), "doubt": ("!", "yellow"),
    "not proven": ("!", "yellow"), "put back": ("!", "yellow"), "interrupted": ("!", "yellow"), "blocked": ("✗", "red"),
    "fail": ("✗", "red"), "damage": ("✗", "red"), "damaged": ("✗", "red"), "failed": ("✗", "red"),
    "note": ("·", "cyan"),
    "pending": ("↑", "yellow"), "stopped": ("!", "yellow"),
}  # fmt: skip


def mark(word: str, shown: str | None = None) -> Text:
    """A verdict: symbol, word, and (as a help only) colour."""
    symbol, colour = SYMBOLS.get(word, ("·", ""))
    return Text(f"{symbol} {word if shown is None else shown}", style=f"bold {colour}".strip())


def headline(out: Console, verdict: str, text: str) -> None:
    """The outcome on a line of its own, between blank lines."""
    out.print()
    out.print(Text.assemble(mark(verdict, verdict.upper()), "  " + text))
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


def beside(out: Console, left: RenderableType, right: RenderableType) -> None:
    """Two things side by side."""
    grid = Table.grid(padding=(0, 6))
    grid.add_row(left, right)
    out.print(grid)


def table(
    out: Console,
    columns: Sequence[str],
    rows: Iterable[Sequence[RenderableType]],
    right: Sequence[int] = (),
    keep: Sequence[int] = (0,),
) -> None:
    """Print `made_table`."""
    out.print(made_table(columns, rows, right, keep))


def made_table(
    columns: Sequence[str],
    rows: Iterable[Sequence[RenderableType]],
    right: Sequence[int] = (),
    keep: Sequence[int] = (0,),
) -> Table:
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
    return made


_TOLD_IN_TEXT = ("setting-", "slower", "page-fails")


def findings(out: Console, found: Sequence[Finding], titles: Mapping[str, str] | None = None) -> None:
    """Findings one below the other: weight and what; below it by which step, where, and both sides. ``titles`` are what
    pages are called."""
    for finding in found:
        line = Table.grid(padding=(0, 2))
        line.add_column(min_width=8, no_wrap=True)
        line.add_column(overflow="fold")
        line.add_row(mark(finding.weight.value), finding.text)
        out.print(line)
        told = []
        by = [f"by {finding.step}" if finding.step else ""]
        by += [f"(could not be seen since {finding.hidden_since})" if finding.hidden_since else ""]
        by += [
            f"on {pages_of(finding, titles or {})}"
            if len(finding.pages) > 1 or (finding.pages and finding.pages[0] not in finding.text)
            else ""
        ]
        named = finding.step is not None and finding.weight.value != "note"
        if any(by):
            # On one line where there is room: the name is what 'trial accept' and 'trial culprits' want.
            beside = f"  ({finding.id})" if named and not any(by[1:]) else ""
            told.append(("where", " ".join(part for part in by if part) + beside))
        if named and any(by[1:]):
            told.append(("name", finding.id))
        if finding.kind == "edit-wiped":
            told += [
                ("edit", line[:100]) for line in finding.before.splitlines() if line[:1] == "+" and line[:2] != "++"
            ]
        elif finding.kind.startswith(_TOLD_IN_TEXT):
            pass
        elif finding.before:
            told += [("before", finding.before), ("after", finding.after or "(nothing)")]
        elif finding.after and finding.after not in finding.text:
            told.append(("what", finding.after))
        if told:
            details = Table.grid(padding=(0, 2))
            details.add_column(min_width=8)
            details.add_column(style="dim", no_wrap=True, min_width=6)
            details.add_column(overflow="fold")
            for name, value in told:
                details.add_row("", name, value)
            out.print(details)


def cell(value: object, most: int = 60) -> str:
    """A value of a table on one line."""
    if value is None:
        return "NULL"
    if isinstance(value, bytes):
        shown = value[:16].hex()
        return f"{len(value)} bytes {shown}{'…' if len(value) > 16 else ''}"
    text = str(value).encode("utf-8", "replace").decode()
    text = text.replace("\n", "⏎").replace("\t", "⇥")
    return text if len(text) <= most else text[: most - 1] + "…"


def cells(row: Sequence[object], most: int = 40) -> str:
    """A row on one line."""
    return " | ".join(cell(v, most) for v in row)


def said(verdict: str, text: str) -> Text:
    """A sentence behind the symbol of a verdict; only the symbol is coloured."""
    return Text.assemble(mark(verdict, ""), text)


def pages_of(finding: Finding, titles: Mapping[str, str], most: int = 3) -> str:
    """The first pages of a finding, each with what it is called."""
    shown = ", ".join(f"{p} ({titles[p]})" if p in titles else p for p in finding.pages[:most])
    more = len(finding.pages) - most
    return shown + (f" and {plural(more, 'more page')}" if more > 0 else "")


def next_step(out: Console, text: str) -> None:
    out.print()
    out.print(Text.assemble(("next:  ", "dim"), (text, "bold")))

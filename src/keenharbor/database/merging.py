"""Changing single rows for a merge: what an engine's writer needs to tell, and the statements that follow from it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from keenharbor.database.protocol import Value

Statement = tuple[str, list[Value]]


class Speaks(Protocol):
    """What differs from engine to engine."""

    def shown(self, table: str) -> str:
        """A table's name in a statement."""

    def quoted(self, column: str) -> str:
        """A column's name in a statement."""

    def bound(self, table: str, column: str, value: Value) -> tuple[str, Value]:
        """What stands for a value in a statement, and the value that goes with it."""

    def equals(self, table: str, column: str, value: Value) -> Statement:
        """The condition that a column holds a value; nothing holds nothing."""

    def tried(self, statement: str, values: Sequence[Value]) -> int | str:
        """Run a statement that a constraint may refuse: how many rows it changed, or the refusal."""

    def asked(self, statement: str, values: Sequence[Value]) -> int:
        """The number that a query gives."""


class MergesRows:
    """`DatabaseWriter`'s part for single rows, by what `Speaks` tells."""

    def change(self: Speaks, table: str, key: Mapping[str, Value], values: Mapping[str, Value]) -> str | None:
        """Set cells of the row with that key; the engine's words when a constraint refuses it."""
        assigned = [(c, *self.bound(table, c, v)) for c, v in values.items()]
        condition, keyed = _condition(self, table, key)
        done = self.tried(
            f"UPDATE {self.shown(table)} SET {', '.join(f'{self.quoted(c)} = {h}' for c, h, _ in assigned)} WHERE "
            f"{condition}",
            [*(v for _, _, v in assigned), *keyed],
        )
        return done if isinstance(done, str) else None

    def delete(self: Speaks, table: str, key: Mapping[str, Value]) -> int:
        """Remove the rows that hold these values; how many there were."""
        condition, values = _condition(self, table, key)
        done = self.tried(f"DELETE FROM {self.shown(table)} WHERE {condition}", values)
        return done if isinstance(done, int) else 0

    def count(self: Speaks, table: str, values: Mapping[str, Value]) -> int:
        """How many rows hold these values."""
        condition, bound = _condition(self, table, values)
        return self.asked(f"SELECT count(*) FROM {self.shown(table)} WHERE {condition}", bound)


def _condition(speaks: Speaks, table: str, values: Mapping[str, Value]) -> Statement:
    said = [speaks.equals(table, column, value) for column, value in values.items()]
    return " AND ".join(condition for condition, _ in said), [v for _, bound in said for v in bound]

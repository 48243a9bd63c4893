"""No database: sites that keep everything in files. Everything works on them as on an empty one."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from keenharbor.base.errors import UsageError
from keenharbor.database.protocol import Block, DatabasePlace, DatabaseState, DatabaseWriter, Row, Schema, Value


class NoDatabase:
    """Stands where a database would."""

    def __init__(self, place: DatabasePlace) -> None:
        self.place = place

    def exists(self) -> bool:
        return True

    def version(self) -> str:
        return ""

    def size(self) -> int:
        return 0

    @contextlib.contextmanager
    def reading(self) -> Iterator[DatabaseState]:
        yield _Nothing()

    @contextlib.contextmanager
    def writing(self) -> Iterator[DatabaseWriter]:
        yield _Nowhere()

    def files(self) -> Iterable[Path]:
        return ()

    def drop(self) -> None:
        """There is nothing to remove."""

    def lacking(self) -> list[str]:
        return []


class _Nothing:
    schema = Schema("none", "", ())

    def rows(self, table: str) -> Iterator[Row]:
        return iter(())

    def blocks(self, table: str) -> Iterator[Block]:
        return iter(())

    def parts(self, table: str, count: int) -> Sequence[Callable[[], Iterator[Block]]]:
        return ()

    def mark(self, table: str) -> str | None:
        return None

    def unchanged_since(self, table: str, mark: str, rows: int) -> bool:
        return True

    def chunk_ids(self, table: str) -> Sequence[str] | None:
        return ()


class _Nowhere:
    def replace(self, state: DatabaseState, known: DatabaseState | None = None) -> int:
        if state.schema.tables:
            raise UsageError("the site has no database to put tables into")
        return 0

    def put_rows(self, state: DatabaseState, tables: Collection[str], known: DatabaseState | None = None) -> int:
        return self.replace(state)

    @contextlib.contextmanager
    def merging(self) -> Iterator[None]:
        yield

    def change(self, table: str, key: Mapping[str, Value], values: Mapping[str, Value]) -> str | None:
        return "the site has no database"

    def delete(self, table: str, key: Mapping[str, Value]) -> int:
        return 0

    def count(self, table: str, values: Mapping[str, Value]) -> int:
        return 0

    def count_on(self, state: DatabaseState) -> None:
        """There are no counters."""

    def insert(self, table: str, columns: Sequence[str], row: Sequence[Value]) -> str | None:
        return "the site has no database"

    def update(self, table: str, key: dict[str, Value], values: dict[str, Value]) -> int:
        return 0

    def script(self, sql: str) -> int:
        raise UsageError("the site has no database to run SQL on")


def sql_text(state: object) -> Iterator[bytes]:
    """A remark, so that nobody looks for what is missing."""
    yield b"-- The site has no database.\n"

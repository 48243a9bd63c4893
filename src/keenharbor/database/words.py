"""What the engines share: how names are quoted, and how a server's refusals are told."""

from __future__ import annotations

from collections.abc import Iterator

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.database.protocol import DatabasePlace


def double_quoted(name: str) -> str:
    """``name`` as an identifier of standard SQL (SQLite, PostgreSQL)."""
    return '"' + name.replace('"', '""') + '"'


def back_quoted(name: str) -> str:
    """``name`` as an identifier of MariaDB."""
    return "`" + name.replace("`", "``") + "`"


def user_refused(place: DatabasePlace, words: str) -> KeenHarborError:
    """The server knows the user not, or not by this password."""
    return KeenHarborError(
        f"the database server refuses the user '{place.user}': {words}", where=str(place),
        advice="correct user and password where the site keeps them, or under [database] in the site file",
    )  # fmt: skip


def no_answer(place: DatabasePlace, words: str) -> KeenHarborError:
    """The server is not there, or went away."""
    return KeenHarborError(
        f"the database server does not answer: {words}", where=str(place),
        advice="see to it that it runs, then type the command again",
    )  # fmt: skip


def no_database(place: DatabasePlace) -> UsageError:
    """The server has no such database."""
    return UsageError(
        "the database is not there", where=str(place), advice="correct the place of the database in the site file"
    )


def refused(place: DatabasePlace, words: str) -> KeenHarborError:
    """Anything else, in the server's words."""
    return KeenHarborError(f"the database refused: {words}", where=str(place))


_ROWS_A_STATEMENT = 200
_BYTES_A_STATEMENT = 512 * 1024


def insert_statements(head: str, rows: Iterator[str]) -> Iterator[bytes]:
    """INSERT statements of a bounded size."""
    batch: list[str] = []
    size = 0
    for row in rows:
        batch.append(row)
        size += len(row)
        if len(batch) >= _ROWS_A_STATEMENT or size >= _BYTES_A_STATEMENT:
            yield (head + ",\n".join(batch) + ";\n").encode("utf-8", "surrogateescape")
            batch, size = [], 0
    if batch:
        yield (head + ",\n".join(batch) + ";\n").encode("utf-8", "surrogateescape")

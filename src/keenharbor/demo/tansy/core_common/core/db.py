"""The data layer: one small interface, one class an engine. SQL elsewhere keeps to what the engines share and
writes parameters as "?"."""

import contextlib
import sqlite3
import threading


class SqliteEngine:
    """A database in a file; a connection for each thread."""

    def __init__(self, settings):
        self._path = settings["database.path"]
        self._of_thread = threading.local()

    def _connection(self):
        connection = getattr(self._of_thread, "connection", None)
        if connection is None:
            connection = sqlite3.connect(f"file:{self._path}?mode=rw", uri=True, timeout=15, isolation_level=None)
            connection.row_factory = sqlite3.Row
            self._of_thread.connection = connection
        return connection

    @contextlib.contextmanager
    def work(self):
        connection = self._connection()
        if connection.in_transaction:  # work within work is one piece of work
            yield Work(connection.execute)
            return
        try:
            connection.execute("BEGIN")
            yield Work(connection.execute)
            connection.execute("COMMIT")
        except BaseException:
            with contextlib.suppress(sqlite3.Error):
                connection.execute("ROLLBACK")
            raise


class Work:
    """One transaction."""

    def __init__(self, run):
        self._run = run

    def all(self, sql, *values):
        return [dict(row) for row in self._run(sql, values)]

    def one(self, sql, *values):
        found = self._run(sql, values).fetchone()
        return None if found is None else dict(found)

    def run(self, sql, *values):
        return self._run(sql, values)

    def has_column(self, table, column):
        return any(row["name"] == column for row in self._run(f"PRAGMA table_info({table})", ()))

    def has_table(self, table):
        return bool(self.one("SELECT name FROM sqlite_master WHERE type = 'table' AND name = ?", table))


ENGINES = {"sqlite": SqliteEngine}


def open_engine(settings):
    return ENGINES[settings["database.engine"]](settings)

"""MariaDB and PostgreSQL when things go wrong half-way, and the ways that are taken only then."""

from __future__ import annotations

import os
import signal
from dataclasses import replace
from pathlib import Path

import psycopg
import pytest

from conftest import state_in_memory
from keenharbor.base.errors import KeenHarborError
from keenharbor.database import DatabasePlace, open_database, store_state
from keenharbor.database.postgres.wire import refusal_of
from keenharbor.database.private_server import PrivateServer
from keenharbor.database.rows import Together
from keenharbor.store import Store
from test_engines import COUNT, ENGINES, foreign_dump, fresh, need, server, servers

__all__ = ["server", "servers"]

MANY_ROWS = {
    "mariadb": "CREATE TABLE many (id INT PRIMARY KEY, words TEXT); "
    "INSERT INTO many SELECT seq, REPEAT('marrow ', 40) FROM seq_1_to_120000",
    "postgres": "CREATE TABLE many (id int PRIMARY KEY, words text); "
    "INSERT INTO many SELECT n, repeat('marrow ', 40) FROM generate_series(1, 120000) n",
}


@pytest.mark.parametrize("engine", ENGINES)
def test_a_server_that_dies_while_it_is_read_leaves_no_snapshot(engine: str, tmp_path: Path) -> None:
    need(engine)
    store = Store.create(tmp_path / "store")
    with PrivateServer.make(engine, tmp_path / "server") as own:
        place = own.place.with_name("mortal")
        with open_database(place).writing() as writer:
            writer.script(MANY_ROWS[engine])
        told = []

        def seen(table: str, count: int) -> None:
            told.append(count)
            if len(told) == 2:
                assert own.pid is not None
                os.killpg(own.pid, signal.SIGKILL)

        with (
            pytest.raises(KeenHarborError, match="does not answer") as caught,
            store.writing() as objects,
            open_database(place).reading() as state,
        ):
            store_state(state, objects, seen=seen)
    assert len(told) >= 2 and sum(told) < 120_000 * 280, "it was read to its end"
    assert caught.value.advice
    assert not store.document_names("snapshots")
    assert not list((tmp_path / "store/staging").iterdir())


def narrow_user(server: PrivateServer, place: DatabasePlace, rights: str) -> DatabasePlace:
    """A user of its own with ``rights`` on the tables of ``place``."""
    user = f"narrow{next(COUNT)}"
    with open_database(place).writing() as writer:
        writer.script(
            f"CREATE USER {user}@localhost; GRANT {rights} ON {place.name}.* TO {user}@localhost"
            if server.engine == "mariadb"
            else f"CREATE ROLE {user} LOGIN; GRANT {rights} ON ALL TABLES IN SCHEMA public TO {user}"
        )
    return DatabasePlace(place.engine, socket=place.socket, name=place.name, user=user)


def test_a_right_that_is_taken_away_half_way_is_told(server: PrivateServer) -> None:
    place = fresh(server, "".join(f"CREATE TABLE {t} (id INT PRIMARY KEY); INSERT INTO {t} VALUES (1);" for t in "abc"))
    if server.engine == "mariadb":
        user = f"narrow{next(COUNT)}"
        with open_database(place).writing() as writer:
            writer.script(f"CREATE USER {user}@localhost")
            for table in "abc":
                writer.script(f"GRANT SELECT ON {place.name}.{table} TO {user}@localhost")
        narrow, taken_away = replace(place, user=user), f"REVOKE SELECT ON {place.name}.c FROM {user}@localhost"
    else:
        narrow = narrow_user(server, place, "SELECT")
        taken_away = f"REVOKE SELECT ON c FROM {narrow.user}"
    held: list[bytes] = []

    def seen(table: str, count: int) -> None:
        if table == "b":
            with open_database(place).writing() as writer:
                writer.script(taken_away)

    with pytest.raises(KeenHarborError, match="denied"), open_database(narrow).reading() as state:
        store_state(state, Together(lambda c: (held.append(c), str(len(held)))[1]), seen=seen)  # type: ignore[func-returns-value]
    assert len(held) == 2


def test_an_owner_without_other_rights_gives_back(server: PrivateServer) -> None:
    """Keys that point in a ring, and a trigger: what a superuser would simply switch off."""
    user, name = f"owner{next(COUNT)}", f"owned{next(COUNT)}"
    with open_database(fresh(server)).writing() as writer:
        if server.engine == "mariadb":
            writer.script(
                f"CREATE DATABASE {name}; CREATE USER {user}@localhost; GRANT ALL ON {name}.* TO {user}@localhost"
            )
        else:
            writer.script(f"CREATE ROLE {user} LOGIN")
    if server.engine == "postgres":
        server.run_sql(f"CREATE DATABASE {name} OWNER {user}")
    place = DatabasePlace(server.engine, socket=server.place.socket, name=name, user=user)
    database = open_database(place)
    trigger = (
        "CREATE TRIGGER shout BEFORE UPDATE ON parent FOR EACH ROW SET NEW.note = 'touched'"
        if server.engine == "mariadb"
        else "CREATE FUNCTION shout() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN NEW.note := ''touched''; RETURN NEW; "
        "END';"
        "CREATE TRIGGER shout BEFORE UPDATE OR INSERT ON parent FOR EACH ROW EXECUTE FUNCTION shout()"
    )
    with database.writing() as writer:
        writer.script(
            "CREATE TABLE parent (id INT PRIMARY KEY, child INT, note VARCHAR(20));"
            "CREATE TABLE child (id INT PRIMARY KEY, parent INT, CONSTRAINT up FOREIGN KEY (parent) REFERENCES parent "
            "(id));"
            "INSERT INTO parent VALUES (1, NULL, 'still'), (2, NULL, 'still'); INSERT INTO child VALUES (10, 1), (11, "
            "2);"
            "UPDATE parent SET child = id + 9;"
            "ALTER TABLE parent ADD CONSTRAINT down FOREIGN KEY (child) REFERENCES child (id);"
        )
        writer.script(trigger)
    before, state = foreign_dump_as_owner(server, place), state_in_memory(place)
    with database.writing() as writer:
        writer.script(
            "UPDATE parent SET child = NULL; DELETE FROM child; DELETE FROM parent WHERE id = 2; INSERT INTO parent "
            "VALUES (3, NULL, 'new')"
        )
    assert foreign_dump_as_owner(server, place) != before
    with database.writing() as writer:
        writer.replace(state)
    assert foreign_dump_as_owner(server, place) == before


def foreign_dump_as_owner(server: PrivateServer, place: DatabasePlace) -> str:
    return foreign_dump(server.place.with_name(place.name))


def test_a_mariadb_server_that_takes_no_files_and_small_packets_only(tmp_path: Path) -> None:
    need("mariadb")
    with PrivateServer.make("mariadb", tmp_path / "server") as own:
        place = own.place.with_name("narrow")
        with open_database(place).writing() as writer:
            writer.script("SET GLOBAL max_allowed_packet = 1048576")
        with open_database(place).writing() as writer:
            writer.script("CREATE TABLE large (id INT PRIMARY KEY, one LONGTEXT, two LONGBLOB, small VARCHAR(9))")
            for n in range(5):
                # One value alone fits into a packet; both together are more than the server's functions may return.
                size = 700_000 if n == 2 else 8
                text = f"REPEAT('a\\\\\\t{n}', {size // 4})"
                writer.script(f"INSERT INTO large VALUES ({n}, {text}, REPEAT(UNHEX('00FF0A0{n}'), {size // 4}), NULL)")
        state = state_in_memory(place)
        assert [len(str(r[1])) for r in state.rows("large")] == [8, 8, 700_000, 8, 8]
        target = own.place.with_name("target")
        with open_database(target).writing() as writer:
            writer.replace(state)
        assert foreign_dump(target) == foreign_dump(place)
        own.run_sql("SET GLOBAL local_infile = 0")
        with open_database(target).writing() as writer:
            writer.script("DELETE FROM large")
        with (
            pytest.raises(KeenHarborError, match="table large is larger than"),
            open_database(target).writing() as writer,
        ):
            writer.replace(state)
        own.run_sql("SET GLOBAL max_allowed_packet = 16777216")
        with open_database(target).writing() as writer:
            writer.replace(state)
        assert foreign_dump(target) == foreign_dump(place)


def test_a_server_that_went_away_does_not_refuse() -> None:
    place = DatabasePlace("postgres", None, "h", 5432, name="lane")
    for words in (
        "server closed the connection unexpectedly\n\tThis probably means the server terminated abnormally",
        "no connection to the server", "could not receive data from server: Connection reset by peer",
    ):  # fmt: skip
        for kind in (psycopg.DatabaseError, psycopg.InternalError, psycopg.OperationalError):
            assert "does not answer" in refusal_of(kind(words), place).what
    assert "refused" in refusal_of(psycopg.DatabaseError("a value is too long"), place).what

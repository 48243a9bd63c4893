"""What the new release would have made: an empty database brought up by the upgraded code, held against the upgraded
one. Where a framework stores something otherwise by now every page may load, and every save fail."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import replace

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.text import plural
from keenharbor.clone.clone import Clone
from keenharbor.compare import Observation, Weight
from keenharbor.database import Schema, Table, open_database
from keenharbor.database.makeup import Makeup, makeup_of, plain, type_of
from keenharbor.database.rows import StoredState
from keenharbor.snapshot import Snapshot, restore_state

TIME_LIMIT = 600
KIND = "schema-unlike"


def schema_when_fresh(clone: Clone, end: Snapshot) -> Schema:
    """The definitions that the clone's code makes of an empty database. The clone's own rows are gone afterwards,
    unless `restore_rows` brings them back. Raises `KeenHarborError` in words where the command does not do it."""
    command = clone.site.model.commands.build_schema
    assert command is not None
    place = open_database(clone.site.database_place)
    clone.be_ready_for_programs()
    try:
        with place.writing() as writer:
            writer.replace(_nothing_of(end.state))
        ran = clone.site.run(command, TIME_LIMIT, prefix=clone.prefix, variables=clone.variables, name="build")
    finally:
        clone.stop()
    if ran.code != 0:
        raise KeenHarborError(
            f"an empty database could not be brought up: {ran.output.strip()[-160:]}", where=ran.command
        )
    with place.reading() as state:
        return state.schema


def restore_rows(clone: Clone, end: Snapshot) -> None:
    """Give the clone its database back."""
    restore_state(end.state, open_database(clone.site.database_place))


def _nothing_of(state: StoredState) -> StoredState:
    return StoredState(replace(state.schema, tables=(), objects=(), counters={}), (), lambda _: b"")


def unlike_fresh(fresh: Schema, there: Schema) -> Iterator[Observation]:
    """How the upgraded database is made otherwise than the new release makes one."""
    new, old = ({t.name: t for t in s.tables if t.kind == "table"} for s in (fresh, there))
    for name in sorted(new.keys() - old.keys()):
        text = f"the new release would make a table {name}, and the upgraded database has none"
        yield Observation(KIND, f"table {name}", Weight.DOUBT, text, after=f"table {name}")
    apart = sorted(old.keys() - new.keys())
    if apart and new:
        listed = ", ".join(apart[:6]) + (" …" if len(apart) > 6 else "")
        text = f"{plural(len(apart), 'table')} that the new release does not make: {listed}"
        yield Observation(KIND, "tables beyond", Weight.NOTE, text, before=", ".join(apart))
    for name in sorted(new.keys() & old.keys()):
        yield from _table(name, _makeup(fresh, new[name]), _makeup(there, old[name]))


def brought_by(seen: Observation, before: Schema, behind: Iterable[tuple[str, Schema]]) -> str | None:
    """The last of the steps (with the definitions behind each) that changed what is made otherwise; None where none
    did: the new release would have it otherwise, and no step has made it so."""
    known, step = _part(before, seen), None
    for name, schema in behind:
        now = _part(schema, seen)
        if now != known:
            known, step = now, name
    return step


def _part(schema: Schema, seen: Observation) -> object:
    """What the definitions say of the part that an observation is of."""
    for table in schema.tables:
        if seen.place == f"table {table.name}":
            return True
        made = _makeup(schema, table)
        for column in made.columns:
            if seen.place == f"{table.name}.{column}":
                return made.columns[column]
        if seen.place.startswith(f"{table.name} ") and (seen.before or seen.after) in made.constraints:
            return True
    return None


_INDEX = re.compile(
    r"(?i)^create\s+(unique\s+)?index\s+(?:if\s+not\s+exists\s+)?\S+\s+on\s+(?:only\s+)?(\S+?)\s*"
    r"(?:using\s+\w+\s*)?(\(.*)$", re.DOTALL
)  # fmt: skip
_CONSTRAINT = re.compile(r"(?i)^alter\s+table\s+(?:only\s+)?(\S+)\s+add\s+constraint\s+\S+\s+(.*)$", re.DOTALL)


def _makeup(schema: Schema, table: Table) -> Makeup:
    """A table's columns and constraints, with the indexes and constraints that are defined beside it."""
    made, more = makeup_of(table.ddl), set()
    for _, _, ddl in schema.objects:
        index, constraint = _INDEX.match(ddl), _CONSTRAINT.match(ddl)
        if index is not None and plain(index[2]) == plain(table.name):
            more.add(plain(f"{index[1] or ''}index {index[3]}"))
        elif constraint is not None and plain(constraint[1]) == plain(table.name):
            more.add(plain(constraint[2]))
    return replace(made, constraints=made.constraints | more)


def _table(name: str, new: Makeup, old: Makeup) -> Iterator[Observation]:
    for column in sorted(new.columns.keys() - old.columns.keys()):
        text = f"the new release would give the table {name} a column {column}, and it has none"
        yield Observation(KIND, f"{name}.{column}", Weight.DOUBT, text, after=new.columns[column])
    for column in sorted(old.columns.keys() - new.columns.keys()):
        text = f"the column {column} of {name} is one that the new release does not make"
        needed = "not null" in old.columns[column] and "default" not in old.columns[column]
        yield Observation(KIND, f"{name}.{column}", Weight.DOUBT if needed else Weight.NOTE, text, old.columns[column])
    for column in sorted(new.columns.keys() & old.columns.keys()):
        there, made = old.columns[column], new.columns[column]
        if there == made:
            continue
        if type_of(there) != type_of(made):
            text = f"the column {column} of {name} is {type_of(there)}; the new release makes it {type_of(made)}"
            yield Observation(KIND, f"{name}.{column}", Weight.DOUBT, text, "", type_of(there), type_of(made))
        elif ("not null" in there) != ("not null" in made):
            may = "must be filled" if "not null" in there else "may be empty"
            text = f"the column {column} of {name} {may}; the new release makes it otherwise"
            weight = Weight.DOUBT if "not null" in there else Weight.NOTE
            yield Observation(KIND, f"{name}.{column}", weight, text, "", there, made)
        elif "unique" in made and "unique" not in there:
            text = f"the column {column} of {name} may hold a value twice; the new release makes it unique"
            yield Observation(KIND, f"{name}.{column}", Weight.DOUBT, text, "", there, made)
        else:
            text = f"the column {column} of {name} is made otherwise than by the new release"
            yield Observation(KIND, f"{name}.{column}", Weight.NOTE, text, "", there, made)
    for missing in sorted(new.constraints - old.constraints):
        unique = missing.startswith(("unique", "primary"))
        text = f"the new release would give the table {name}: {missing[:120]}"
        yield Observation(KIND, f"{name} {missing[:60]}", Weight.DOUBT if unique else Weight.NOTE, text, after=missing)
    for beyond in sorted(old.constraints - new.constraints):
        # What it refuses the new release may want to save.
        refuses = beyond.startswith(("unique", "foreign", "check"))
        text = f"the table {name} has what the new release does not make: {beyond[:120]}"
        yield Observation(KIND, f"{name} {beyond[:60]}", Weight.DOUBT if refuses else Weight.NOTE, text, before=beyond)

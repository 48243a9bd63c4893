"""What a rollback found no place for, carried on when live goes forward again: nothing is lost by going back and forth.

A rollback saves beside the log what the old site has no table, column or row for (``not-carried-*.jsonl``). At the end
of the next cutover, where there is a place for it again, it is put there; the file is called ``carried-on-*.jsonl``
from then on."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from keenharbor.base.durable import move_folder, write_durably
from keenharbor.base.errors import DamagedError
from keenharbor.base.text import now
from keenharbor.database import DatabaseWriter, Schema, Value
from keenharbor.database.lines import decode_json
from keenharbor.merge.model import WITHOUT_A_PLACE
from keenharbor.site.writable import Writable

WAITING, CARRIED_ON = "not-carried-", "carried-on-"


@dataclass
class CarriedOn:
    """Rows and cells that were put in their place again, by table, and those that still have none; the files."""

    rows: dict[str, int] = field(default_factory=dict)
    left: list[dict[str, object]] = field(default_factory=list)
    files: list[Path] = field(default_factory=list)

    def put_by(self) -> None:
        """From now on the files are not looked at; what has no place yet waits in one of its own."""
        if not self.rows:
            return
        if self.left:
            lines = "".join(json.dumps(line, ensure_ascii=False) + "\n" for line in self.left)
            write_durably(self.files[0].with_name(f"{WAITING}{now():%Y%m%d-%H%M%S%f}.jsonl"), lines.encode())
        for file in self.files:
            move_folder(file, file.with_name(file.name.replace(WAITING, CARRIED_ON, 1)))


def carry_on(live: Writable) -> CarriedOn:
    """Put what waits in its place, as far as it has one; the files stay until `CarriedOn.put_by`."""
    done = CarriedOn(files=sorted(live.work.glob(f"{WAITING}*.jsonl")))
    waiting = [line for file in done.files for line in _lines(file) if line.get("why") in WITHOUT_A_PLACE]
    if not waiting:
        done.files = []
        return done
    with live.reading_database() as state:
        schema = state.schema
    with live.writing_database() as writer, writer.merging():
        still = list(waiting)
        while still:  # a row that belongs to another one comes behind it
            left = []
            for line in still:
                if _put(line, schema, writer):
                    table = str(line["table"])
                    done.rows[table] = done.rows.get(table, 0) + 1
                else:
                    left.append(line)
            if len(left) == len(still):
                break
            still = left
        done.left = still
    return done


def _lines(file: Path) -> Iterator[dict[str, object]]:
    for number, line in enumerate(file.read_text(encoding="utf-8").splitlines(), 1):
        try:
            said = json.loads(line)
        except ValueError:
            raise DamagedError(f"line {number} cannot be read", where=file) from None
        if isinstance(said, dict):
            yield said


def _cells(said: object) -> dict[str, Value]:
    """Cells as they were before they were written down."""
    assert isinstance(said, dict)
    (row,) = decode_json(json.dumps(list(said.values())).encode() + b"\n")
    return dict(zip(said, row, strict=True))


def _put(line: dict[str, object], schema: Schema, writer: DatabaseWriter) -> bool:
    """Whether a row or cells are in their place now."""
    table = schema.table(str(line["table"]))
    if table is None:
        return False
    key, cells = _cells(line["key"]), _cells(line["row"])
    if not (key.keys() | cells.keys()) <= set(table.columns):
        return False
    if line["what"] == "row":
        if writer.count(table.name, key):
            return True  # it was there already when this was broken off
        return writer.insert(table.name, list(cells), tuple(cells.values())) is None
    return bool(writer.count(table.name, key)) and writer.change(table.name, key, cells) is None

"""Adding a place to a site, and taking one up again on a machine that has lost what it knew of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from keenharbor.base.durable import private_folder, sync_folder, write_durably, write_pieces
from keenharbor.base.errors import UsageError
from keenharbor.base.text import now, stamp
from keenharbor.place.berth import Berth, BerthKeys
from keenharbor.place.fetching import Found, berths_in
from keenharbor.place.keys import PlaceKey
from keenharbor.place.line import Line
from keenharbor.place.sending import put_rescue, write_state
from keenharbor.place.states import whole_state


@dataclass(frozen=True)
class Added:
    """What came of adding: the berth's folder in the place, and how many snapshots it holds already."""

    folder: str
    snapshots: int
    again: bool


def check_key_file(target: Path) -> None:
    """Raises `UsageError` where a new key cannot be written to a file."""
    if target.exists():
        raise UsageError("the file for the key is there already", where=target, advice="name a new one")
    if not target.absolute().parent.is_dir():
        raise UsageError("the folder for the key is not there", where=target.parent)


def write_key(target: Path, key: PlaceKey, place: str) -> None:
    """Write a new key where only its owner can read it."""
    text = f"# The key of the place '{place}', made {stamp(now())}. It opens what is sent there; keep it elsewhere.\n"
    write_pieces(target, [text.encode(), key.secret.encode(), b"\n"])
    sync_folder(target.absolute().parent)


def read_key(file: Path) -> PlaceKey:
    """The key in a file. Raises `UsageError`."""
    try:
        return PlaceKey.read(file.read_text(encoding="utf-8"), file)
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"the key cannot be read: {error}", where=file) from None


def set_up(berth: Berth, line: Line, key: PlaceKey, site: str, *, new: bool) -> Added:
    """Lay the program for an emergency into a place, and note on this machine what it needs to send there. With a key
    that is not ``new`` the place is looked through: what it opens there of the site is taken up again."""
    put_rescue(line)
    known: Found | None = None
    if not new:
        found, _ = berths_in(line, key)
        of_site = [f for f in found if site in f.sites or not f.sites]
        known = of_site[0] if of_site else None
    keys = BerthKeys.made(key, known.folder if known is not None else None)
    private_folder(berth.folder)
    if known is not None:
        held = known.read.held
        number = max(held.number, known.read.newest) + 1
        state = whole_state(keys.folder, number, held, held.sum, keys.reader)
        write_state(line, keys, state, held)  # this machine has a key of its own for reading states: one that it opens
        berth.note_held(held)
    berth.set_up(keys)
    return Added(keys.folder, len(known.read.held.snapshots) if known is not None else 0, known is not None)


def add_to_site_file(site_file: Path, values: Mapping[str, object]) -> bool:
    """Write the place into the site file, which is otherwise left as it is. False where it is there already, the same.
    Raises `UsageError`."""
    import tomlkit
    from tomlkit.items import AoT

    document = tomlkit.parse(site_file.read_text(encoding="utf-8"))
    places = document.get("place")
    for table in places if isinstance(places, AoT) else ():
        if table.get("name") == values["name"]:
            return False
    made = tomlkit.table()
    made.update(values)
    if isinstance(places, AoT):
        places.append(made)
    else:
        document["place"] = tomlkit.aot()
        document["place"].append(made)
    write_durably(site_file, tomlkit.dumps(document).encode(), site_file.stat().st_mode & 0o777)
    return True

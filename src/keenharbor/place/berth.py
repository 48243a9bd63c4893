"""A berth: one site's part of a place, and what this machine knows of it.

WORK/places/NAME/berth.json     its folder in the place, the public key, the seed that signs, a key of its own for
states WORK/places/NAME/held.msgpack   what the place holds by its states, as this machine knows them; made anew from
them WORK/places/NAME/pending.jsonl  parcels that were sent since the last state WORK/places/NAME/reads.json     when
each parcel was read back last, and what was wrong WORK/places/NAME/packs/         of each pack in the place, the ids of
its objects"""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

import msgspec

from keenharbor.base.chain import append_line, read_chain
from keenharbor.base.durable import private_folder, read_summed, remove_file, write_durably, write_plain, write_summed
from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.base.text import now
from keenharbor.place.keys import PlaceKey
from keenharbor.place.states import Held, Parcel, Sent
from keenharbor.store import ObjectId

_ID_BYTES = 32


class Reading(msgspec.Struct, frozen=True):
    """How a parcel was when it was read back last: when, and what was wrong, if anything."""

    at: datetime
    wrong: str = ""


class LastSend(msgspec.Struct, frozen=True):
    """How a sending ended: when, whether all was right, the bytes and the snapshots that went; ``mark`` says which
    documents there were: while they are untouched there is nothing to send."""

    at: datetime
    good: bool
    bytes: int
    snapshots: list[str]
    mark: str = ""


class _Reads(msgspec.Struct, frozen=True):
    """What is kept of reading back."""

    parcels: dict[str, Reading] = {}
    verified_at: datetime | None = None


@dataclass(frozen=True)
class BerthKeys:
    """What the sending machine has: the folder's name in the place, for whom is sealed, what signs, and the key of its
    own with which it reads the states."""

    folder: str
    recipient: str
    seed: bytes = field(repr=False)
    own: str = field(repr=False)

    @classmethod
    def made(cls, key: PlaceKey, folder: str | None = None) -> BerthKeys:
        return cls(folder or secrets.token_hex(8), key.recipient, key.seed, PlaceKey.made().secret)

    @property
    def reader(self) -> str:
        """The public half of the machine's own key."""
        return PlaceKey(self.own).recipient


class Berth:
    """The files of one place in the site's work folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.lock = folder / "berth.lock"

    @property
    def is_set_up(self) -> bool:
        return (self.folder / "berth.json").exists()

    def set_up(self, keys: BerthKeys) -> None:
        """Write down what was made with the key."""
        private_folder(self.folder)
        write_summed(
            self.folder / "berth.json",
            {"folder": keys.folder, "recipient": keys.recipient, "seed": keys.seed.hex(), "own": keys.own},
        )

    def keys(self) -> BerthKeys:
        """Raises `UsageError` where it was not set up, `DamagedError` where the file is not what was written."""
        file = self.folder / "berth.json"
        try:
            said = read_summed(file.read_bytes())
            return BerthKeys(said["folder"], said["recipient"], bytes.fromhex(said["seed"]), said["own"])
        except FileNotFoundError:
            raise UsageError(
                f"the place '{self.folder.name}' has no key on this machine yet", where=file,
                advice=f"keenharbor place add {self.folder.name}",
            ) from None  # fmt: skip
        except (OSError, ValueError, KeyError, TypeError) as error:
            raise DamagedError(
                f"what this machine knows of the place is damaged: {error}", where=file,
                advice=f"keenharbor place add {self.folder.name} --key FILE takes it up again",
            ) from None  # fmt: skip

    # -- what the place holds --------------------------------------------------------------------------------

    def held(self) -> Held:
        """What this machine knows that the place holds; nothing where that cannot be read: the states tell it."""
        try:
            return msgspec.msgpack.decode((self.folder / "held.msgpack").read_bytes(), type=Held)
        except (OSError, msgspec.MsgspecError):
            return Held()

    def note_held(self, held: Held) -> None:
        write_durably(self.folder / "held.msgpack", msgspec.msgpack.encode(held))

    def note_sent(self, parcel: Parcel, number: int) -> None:
        """A parcel lies in the place that the state ``number`` will tell of."""
        said = msgspec.json.encode(parcel).decode()
        append_line(self.folder / "pending.jsonl", {"parcel": said, "number": str(number)})

    def pending(self, number: int) -> list[Parcel]:
        """Parcels that were sent for the state ``number``, which was not written."""
        chain = read_chain(self.folder / "pending.jsonl", {"parcel", "number"})
        with contextlib.suppress(msgspec.MsgspecError):
            return [
                msgspec.json.decode(line.said["parcel"], type=Parcel)
                for line in chain.lines
                if line.said["number"] == str(number)
            ]
        return []

    def forget_pending(self) -> None:
        remove_file(self.folder / "pending.jsonl")

    # -- objects in the packs that it holds -------------------------------------------------------------------

    def note_pack(self, pack: str, objects: Iterable[ObjectId]) -> None:
        """The objects of a pack that the place has. Where that is lost, a pack with some of them is sent once more."""
        private_folder(self.folder / "packs")
        write_plain(self.folder / "packs" / f"{pack}.ids", b"".join(bytes.fromhex(o) for o in objects))

    def packs_by_object(self, packs: Iterable[str]) -> dict[bytes, str]:
        """In which of ``packs``, which the place has, each object lies; packs of which nothing is known are left
        out."""
        found: dict[bytes, str] = {}
        for pack in packs:
            with contextlib.suppress(FileNotFoundError):
                ids = (self.folder / "packs" / f"{pack}.ids").read_bytes()
                found.update((ids[at : at + _ID_BYTES], pack) for at in range(0, len(ids) - _ID_BYTES + 1, _ID_BYTES))
        return found

    # -- reading back -----------------------------------------------------------------------------------------

    def _reads(self) -> _Reads:
        try:
            return msgspec.json.decode((self.folder / "reads.json").read_bytes(), type=_Reads)
        except (OSError, msgspec.MsgspecError):
            return _Reads()

    def readings(self) -> dict[str, Reading]:
        """By parcel, when it was read back last. What cannot be read counts as never read."""
        return self._reads().parcels

    def note_readings(self, readings: dict[str, Reading], *, verified: bool) -> None:
        """What was read back; ``verified`` where it was by a verification, whose time is noted."""
        said = _Reads(readings, now() if verified else self.verified_at)
        write_durably(self.folder / "reads.json", msgspec.json.encode(said))

    @property
    def verified_at(self) -> datetime | None:
        return self._reads().verified_at

    def note_send(self, sent: LastSend) -> None:
        """How the last sending ended."""
        write_durably(self.folder / "sent.json", msgspec.json.encode(sent))

    def last_send(self) -> LastSend | None:
        try:
            return msgspec.json.decode((self.folder / "sent.json").read_bytes(), type=LastSend)
        except (OSError, msgspec.MsgspecError):
            return None


def newest_of(snapshots: Mapping[str, Sent]) -> tuple[str, Sent] | None:
    """The snapshot that was taken last."""
    return max(snapshots.items(), key=lambda item: item[1].taken_at, default=None)

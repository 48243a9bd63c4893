"""States: what a place holds, said by whoever sent it.

A state is an object of its own, numbered, sealed like a parcel (and for the sending machine too, which so learns what
somebody else let go), and signed. It says what came and went since the one before, and the sum of that one's object:
so a state that was changed, left out or made up is noticed; one that was taken away from the end is noticed by whoever
knows a later one. Every so often one says all. A place's objects are never written over: a thief who may only add can
hide nothing of what was there."""

from __future__ import annotations

import re
from collections.abc import Iterable

import msgspec
from blake3 import blake3

from keenharbor.base.errors import DamagedError
from keenharbor.base.text import now, stamp
from keenharbor.place.keys import is_signed, open_sealed, sign
from keenharbor.place.parcels import LARGEST_SEALED, Member, files_in, piece_of, sealed_parcel

STATE_FORMAT = 1
WHOLE_EVERY = 32
"""So many states at most are read to know what a place holds."""


class Parcel(msgspec.Struct, frozen=True):
    """An object in a place: its name, the length and BLAKE3 of what lies there, and what is in it."""

    name: str
    size: int
    sum: str
    members: tuple[Member, ...]


class Sent(msgspec.Struct, frozen=True):
    """A snapshot in a place: of which site, when it was taken, how it is called, how many files and bytes, and the
    packs that it needs."""

    site: str
    taken_at: str
    label: str | None
    files: int
    bytes: int
    packs: tuple[str, ...]


class State(msgspec.Struct, frozen=True):
    """What came and went since the state before, or, if it is ``whole``, all that there is. ``reader`` is the public
    half of the sending machine's own key: who lets something go from elsewhere seals the state for it, too."""

    berth: str
    number: int
    at: str
    before: str
    whole: bool
    reader: str
    parcels: tuple[Parcel, ...] = ()
    dropped: tuple[str, ...] = ()
    snapshots: dict[str, Sent] = {}
    gone: tuple[str, ...] = ()
    format: int = STATE_FORMAT


class Held(msgspec.Struct):
    """All that a place holds, as its states up to ``number`` say; ``sum`` is that of the last one's object."""

    number: int = 0
    sum: str = ""
    at: str = ""
    parcels: dict[str, Parcel] = {}
    snapshots: dict[str, Sent] = {}
    since_whole: int = 0
    reader: str = ""

    def leads_to(self, state: State) -> bool:
        """Whether a state is the next one, or one that says all."""
        if state.whole:
            return state.number > self.number
        return (state.number, state.before) == (self.number + 1, self.sum)

    def take(self, state: State, sum_of: str) -> None:
        """Go on to a state."""
        if state.whole:
            self.parcels, self.snapshots = {}, {}
        self.parcels.update((p.name, p) for p in state.parcels)
        self.snapshots.update(state.snapshots)
        for name in state.dropped:
            self.parcels.pop(name, None)
        for name in state.gone:
            self.snapshots.pop(name, None)
        self.number, self.sum, self.at, self.reader = state.number, sum_of, state.at, state.reader
        self.since_whole = 0 if state.whole else self.since_whole + 1

    def members(self, without: Iterable[str] = ()) -> dict[str, list[tuple[Member, Parcel]]]:
        """By path, the parts of each file and the parcels that they are in; of a file that came several times the
        newest. Those of which a part is missing are left out, as are the parcels ``without``."""
        left_out = set(without)
        found: dict[str, list[tuple[Member, Parcel]]] = {}
        for parcel in self.parcels.values():
            if parcel.name in left_out:
                continue
            for member in parcel.members:
                parts = found.setdefault(member.path, [])
                if parts and (parts[0][0].parts != member.parts or member.parts == 1):
                    parts.clear()
                parts.append((member, parcel))
        return {path: whole for path, parts in found.items() if (whole := _whole(parts))}

    @property
    def bytes(self) -> int:
        """What all parcels take."""
        return sum(p.size for p in self.parcels.values())


def whole_state(folder: str, number: int, held: Held, before: str, reader: str) -> State:
    """The state that says all that is ``held``."""
    parcels = tuple(held.parcels.values())
    return State(folder, number, stamp(now()), before, True, reader, parcels, (), held.snapshots)


def _whole(parts: list[tuple[Member, Parcel]]) -> list[tuple[Member, Parcel]]:
    """The parts of a file in order, of one that came twice the later; none unless all are there."""
    by_number = {member.part: (member, parcel) for member, parcel in parts}
    count = parts[0][0].parts
    return [by_number[n] for n in range(count)] if all(n in by_number for n in range(count)) else []


def state_object(state: State, seed: bytes, recipient: str) -> bytes:
    """The object of a state."""
    said = msgspec.json.encode(state)
    pieces = [piece_of("state.json", said), piece_of("state.signature", sign(seed, said))]
    return sealed_parcel(pieces, recipient, state.reader)


def read_state(sealed: bytes, secret: str, seed: bytes) -> State:
    """The state in an object. Raises `keenharbor.place.keys.OtherKeyError` for one that is sealed for somebody else,
    `DamagedError` for one that is not signed by who has this key, or is none."""
    files = dict(files_in(open_sealed(sealed, secret)))
    said, signature = files.get("state.json"), files.get("state.signature")
    if said is None or signature is None or not is_signed(seed, signature, said):
        raise DamagedError("it is not signed by who sends to this place")
    try:
        state = msgspec.json.decode(said, type=State)
    except (msgspec.MsgspecError, RecursionError) as error:
        raise DamagedError(f"a state cannot be read: {error}") from None
    if (problem := _out_of_range(state)) is not None:
        raise DamagedError(f"a state says what none says: {problem}")
    if state.format != STATE_FORMAT:
        raise DamagedError(f"a state has format {state.format}; this version of the tool reads {STATE_FORMAT}")
    return state


_FOLDER = re.compile(r"[0-9a-f]{16}", re.ASCII)
_OBJECT = re.compile(r"[0-9a-f]{16}/parcels/[0-9a-f]/[0-9a-f]{31}", re.ASCII)
_PACK = re.compile(r"[0-9a-f]{20}\.pack", re.ASCII)
_ID = re.compile(r"[A-Za-z0-9._-]{1,100}", re.ASCII)
_MOST_PARTS = 4096


def _out_of_range(state: State) -> str | None:
    """What of a state nobody would have written who sends; who took over a machine has what signs."""
    if not _FOLDER.fullmatch(state.berth) or not 0 < state.number < 10**8:
        return "its folder or its number"
    for parcel in state.parcels:
        if not _OBJECT.fullmatch(parcel.name) or not parcel.name.startswith(f"{state.berth}/"):
            return "the name of a parcel"
        if not 0 < parcel.size <= LARGEST_SEALED:
            return "the length of a parcel"
        if not all(0 <= m.part < m.parts <= _MOST_PARTS and 0 <= m.size <= parcel.size for m in parcel.members):
            return "the parts of a file"
    for identity, sent in state.snapshots.items():
        if not _ID.fullmatch(identity) or not all(_PACK.fullmatch(p) for p in sent.packs):
            return "the name of a snapshot or of a pack"
    return None


def sum_of(sealed: bytes) -> str:
    """What names an object's content: its BLAKE3."""
    return blake3(sealed).hexdigest()

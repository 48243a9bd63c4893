"""Where every object of a store stands, in little memory.

A store of a hundred thousand files has as many objects; an entry is two short byte strings instead of a text and a
tuple of numbers, which take three times as much."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Mapping, Sequence

from keenharbor.store.packs import Location, ObjectId

_FORM = struct.Struct("<IQQQBQQ")


class PackIndex:
    """Objects by identity, each with its place in a pack."""

    def __init__(self) -> None:
        self._places: dict[bytes, bytes] = {}
        self._packs: list[str] = []
        self._numbers: dict[str, int] = {}

    def __contains__(self, wanted: ObjectId) -> bool:
        try:
            return bytes.fromhex(wanted) in self._places
        except ValueError:  # a damaged manifest may name anything
            return False

    def get(self, wanted: ObjectId) -> Location | None:
        """The place of an object; None where there is none."""
        packed = self._places.get(bytes.fromhex(wanted)) if wanted in self else None
        return self._location(packed) if packed is not None else None

    def __getitem__(self, wanted: ObjectId) -> Location:
        return self._location(self._places[bytes.fromhex(wanted)])

    def update(self, found: Mapping[ObjectId, Location]) -> None:
        """Note places, whatever was known of these objects."""
        for identity, place in found.items():
            self._places[bytes.fromhex(identity)] = self._packed(place.pack, place[1:])

    def add(self, found: Iterable[tuple[ObjectId, Location]]) -> None:
        """Note places of objects that are not known yet."""
        for identity, place in found:
            self._places.setdefault(bytes.fromhex(identity), self._packed(place.pack, place[1:]))

    def add_listed(self, pack: str, listed: Mapping[ObjectId, Sequence[int]]) -> None:
        """The same of one pack, as its list on the disk has them. Raises `ValueError` or `TypeError` for a list that is
        none, and notes nothing of it then."""
        made = {bytes.fromhex(i): self._packed(pack, v) for i, v in listed.items()}
        for key, packed in made.items():
            self._places.setdefault(key, packed)

    def clear(self) -> None:
        """Forget all."""
        self._places.clear()

    def _packed(self, pack: str, numbers: Sequence[int]) -> bytes:
        number = self._numbers.get(pack)
        if number is None:
            number = self._numbers[pack] = len(self._packs)
            self._packs.append(pack)
        try:
            return _FORM.pack(number, *numbers, *(0,) * (6 - len(numbers)))
        except struct.error as error:
            raise ValueError(str(error)) from error

    def _location(self, packed: bytes) -> Location:
        number, *numbers = _FORM.unpack(packed)
        return Location(self._packs[number], *numbers)

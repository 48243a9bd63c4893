"""Taking in packs and documents of another store, piece by piece as they come."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from pathlib import Path

from keenharbor.base.durable import private_folder, sync_folder, temporary_name, write_durably
from keenharbor.base.errors import DamagedError
from keenharbor.store.packs import object_id
from keenharbor.store.store import Store


class Receiver:
    """Takes in what comes of another store, which is here when all of it came; the parts of a pack wait in the store's
    ``staging``, where a later run finds them."""

    def __init__(self, store: Store) -> None:
        self._store = store

    def _pack(self, name: str) -> Path:
        return self._store.folder / "packs" / name[:2] / name

    def _part(self, name: str, part: int) -> Path:
        return self._store.folder / "staging" / f"{name}.{part:05d}.fetched"

    def lay(self, name: str, content: bytes, part: int, parts: int) -> None:
        """Write a pack, or one part of several."""
        final = self._pack(name)
        if final.exists():
            return
        if parts > 1:
            final = self._part(name, part)
        private_folder(final.parent)
        write_durably(final, content)

    def joined(self, name: str, sums: Sequence[str]) -> bool:
        """Whether a pack is here whose parts have these BLAKE3, once they are joined where all are here."""
        final = self._pack(name)
        if len(sums) == 1:
            return final.exists()
        files = [self._part(name, n) for n in range(len(sums))]
        if not final.exists():
            if not all(f.exists() for f in files):
                return False
            private_folder(final.parent)
            part = temporary_name(final)
            with part.open("xb") as out:
                for file, told in zip(files, sums, strict=True):
                    content = file.read_bytes()
                    if object_id(content) != told:
                        part.unlink()
                        return False
                    out.write(content)
            part.replace(final)
            sync_folder(final.parent)
        for file in files:
            file.unlink(missing_ok=True)
        return True

    def take_document(self, kind: str, name: str, content: bytes) -> None:
        """Take in a document as another store has it in its file. Raises `DamagedError` when it is not sound."""
        value = Store.document_in(content, self._store.folder / kind / f"{name}.json")
        with contextlib.suppress(DamagedError):
            if self._store.read_document(kind, name) == value:
                return
        self._store.write_document(kind, name, value)

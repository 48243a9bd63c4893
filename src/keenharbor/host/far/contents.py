"""Contents that have come over a line before: by their digest, which the far side can tell, the id that they have here.

What is known by its digest is not sent again, whatever name it has now and whatever its times say."""

from __future__ import annotations

import sqlite3
import threading
from collections import defaultdict
from collections.abc import Callable, Iterable
from pathlib import Path


class KnownContents:
    """A small database beside the site's other things (None: for this run alone). It may be lost: then contents are
    sent once more."""

    def __init__(self, file: Path | None) -> None:
        self._file = file
        self._guard = threading.Lock()
        self._by_size: dict[int, list[bytes]] | None = None
        self._ids: dict[bytes, str] = {}
        self._new: list[tuple[bytes, int, str]] = []

    def _read(self) -> dict[int, list[bytes]]:
        if self._by_size is None:
            by_size: dict[int, list[bytes]] = defaultdict(list)
            if self._file is not None and self._file.exists():
                try:
                    with sqlite3.connect(self._file, timeout=5) as known:
                        for digest, size, identity in known.execute("SELECT digest, size, id FROM contents"):
                            by_size[size].append(digest)
                            self._ids[digest] = identity
                    known.close()
                except sqlite3.Error:
                    by_size.clear()
                    self._file.unlink(missing_ok=True)
            self._by_size = by_size
        return self._by_size

    def of_sizes(self, sizes: Iterable[int], have: Callable[[str], bool] | None, most: int) -> dict[bytes, str]:
        """Digests with ids of contents that may be such of these sizes, and that the caller may ``have``: the newest,
        and not more than ``most``."""
        with self._guard:
            by_size = self._read()
            found: dict[bytes, str] = {}
            wanted = [by_size[size] for size in set(sizes) if size in by_size]
            for digests in sorted(wanted, key=len):
                for digest in digests[-max(1, most - len(found)) :]:
                    identity = self._ids[digest]
                    if have is None or have(identity):
                        found[digest] = identity
            return found

    def note(self, digest: bytes, size: int, identity: str) -> None:
        """Remember a content that came."""
        with self._guard:
            by_size = self._read()
            if self._ids.get(digest) != identity:
                if digest not in self._ids:
                    by_size[size].append(digest)
                self._ids[digest] = identity
                self._new.append((digest, size, identity))
                if len(self._new) >= 5000:
                    self._write()

    def keep(self) -> None:
        """Write down what was noted."""
        with self._guard:
            self._write()

    def _write(self) -> None:
        if not self._new or self._file is None or not self._file.parent.is_dir():
            return
        try:
            with sqlite3.connect(self._file, timeout=5) as known:
                known.execute(
                    "CREATE TABLE IF NOT EXISTS contents (digest BLOB PRIMARY KEY, size INTEGER NOT NULL, "
                    "id TEXT NOT NULL) WITHOUT ROWID"
                )
                known.executemany("INSERT OR REPLACE INTO contents VALUES (?, ?, ?)", self._new)
            known.close()
        except sqlite3.Error:
            return  # it only saves time
        self._new.clear()

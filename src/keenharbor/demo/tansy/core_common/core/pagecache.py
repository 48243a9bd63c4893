"""Finished pages on disk, kept for a day. Pages with a query, for members, or asked for with "no-cache" pass by."""

import hashlib
import time
from pathlib import Path

KEEP_SECONDS = 86400


class PageCache:
    def __init__(self, folder):
        self._folder = Path(folder)

    def _file(self, path):
        return self._folder / f"{hashlib.sha1(path.encode()).hexdigest()}.html"

    def get(self, path):
        file = self._file(path)
        try:
            if time.time() - file.stat().st_mtime > KEEP_SECONDS:
                return None
            return file.read_text()
        except FileNotFoundError:
            return None

    def put(self, path, page):
        self._folder.mkdir(parents=True, exist_ok=True)
        part = self._file(path).with_suffix(f".{time.monotonic_ns()}.part")
        part.write_text(page)
        part.replace(self._file(path))

    def drop(self, path):
        self._file(path).unlink(missing_ok=True)

    def purge(self):
        count = 0
        for file in self._folder.glob("*.html"):
            file.unlink(missing_ok=True)
            count += 1
        return count

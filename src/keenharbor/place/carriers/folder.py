"""A place that is a folder: of another disk, or of a share that is mounted."""

from __future__ import annotations

import errno
import os
from pathlib import Path

from keenharbor.base.durable import PRIVATE_FILE, private_folder, sync_folder
from keenharbor.place.carriers import CarrierError, NotThereError, Pace, is_plain

_BLOCK = 1024 * 1024
_FIRM = {errno.EACCES, errno.EPERM, errno.EROFS, errno.ENOSPC, errno.EDQUOT, errno.EEXIST, errno.ENOTDIR}


class FolderCarrier:
    """Objects as files below a folder. A folder that is not there is not made unless asked: a disk that is not plugged
    in must not be taken for an empty place."""

    resumes = False

    def __init__(self, root: Path, *, makes: bool) -> None:
        self._root = root
        if not root.is_dir():
            if not makes:
                raise CarrierError(
                    "the folder of the place is not there", passing=False, where=root,
                    advice="is its disk plugged in, its share mounted?",
                )  # fmt: skip
            self._trying(private_folder, root)

    def _trying(self, do: object, *given: object) -> object:
        assert callable(do)
        try:
            return do(*given)
        except FileNotFoundError as error:
            raise NotThereError(str(error.filename)) from None
        except OSError as error:
            firm = error.errno in _FIRM
            full = error.errno in (errno.ENOSPC, errno.EDQUOT)
            raise CarrierError(
                f"the place: {error.strerror}", passing=not firm, where=error.filename or self._root,
                advice="free some space there, or let old ones go: keenharbor place thin" if full else None,
            ) from None  # fmt: skip

    def put(self, name: str, data: bytes, pace: Pace) -> None:
        self._trying(self._put, name, data, pace)

    def _put(self, name: str, data: bytes, pace: Pace) -> None:
        if not self._root.is_dir():
            raise OSError(errno.ENOENT, "its folder is gone; is its disk still there?", str(self._root))
        file = self._root / name
        private_folder(file.parent)
        descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, PRIVATE_FILE)
        with os.fdopen(descriptor, "wb", buffering=0) as out:
            for at in range(0, len(data), _BLOCK):
                block = memoryview(data)[at : at + _BLOCK]
                pace(len(block))
                while block:
                    block = block[out.write(block) :]
            os.fsync(descriptor)
        sync_folder(file.parent)

    def get(self, name: str, most: int, pace: Pace) -> bytes:
        def read() -> bytes:
            with (self._root / name).open("rb") as source:
                pace(min(most, os.fstat(source.fileno()).st_size))
                return source.read(most + 1)

        content = self._trying(read)
        assert isinstance(content, bytes)
        if len(content) > most:
            raise CarrierError(f"'{name}' is larger than it is to be", passing=False)
        return content

    def sizes(self, under: str) -> dict[str, int]:
        def walk() -> dict[str, int]:
            found: dict[str, int] = {}
            if not self._root.is_dir():
                raise OSError(errno.EACCES, "its folder is gone", str(self._root))
            for folder, _, files in os.walk(self._root / under):
                base = Path(folder).relative_to(self._root).as_posix()
                for file in files:
                    name = f"{base}/{file}".removeprefix("./")
                    if is_plain(name):
                        found[name] = os.lstat(os.path.join(folder, file)).st_size  # noqa: PTH118
            return found

        found = self._trying(walk)
        assert isinstance(found, dict)
        return found

    def remove(self, name: str) -> None:
        self._trying(lambda: (self._root / name).unlink(missing_ok=True))

    def close(self) -> None:
        pass

"""A stream sealed with a passphrase as earlier versions did, and a stream cut into parts.

What is sealed now is in an open format (see `keenharbor.snapshot.agefile`). Sealed stream of earlier versions: one line
of JSON (format, key derivation and its parameters, salt, size of the pieces), then pieces, each 4 bytes of length
(big-endian; the highest bit marks the last piece) and as many bytes of ChaCha20-Poly1305 (RFC 8439). A piece's nonce is
its number in 12 bytes, big-endian; its length field and the first line are authenticated with it. So no piece can be
changed, left out, swapped or added, nor the end cut off (cf. Hoang, Reyhanitabar, Rogaway, Vizár, "Online authenticated
encryption and its nonce-reuse misuse-resistance", CRYPTO 2015: STREAM). The key comes from the passphrase by scrypt
(RFC 7914)."""

from __future__ import annotations

import json
import os
import struct
from collections.abc import Sequence
from pathlib import Path
from typing import IO, Protocol

from keenharbor.base.durable import PRIVATE_FILE, sync_folder
from keenharbor.base.errors import DamagedError, UsageError

PIECE = 1024 * 1024
_FORMAT = "keenharbor-sealed-1"
_LAST = 0x8000_0000
_LARGEST_MEMORY = 2**28
"""What a passphrase may cost in bytes; a hostile archive could ask for all there is."""


class PassphraseError(DamagedError):
    """The first piece cannot be opened: the passphrase is another one, or the piece is damaged."""


class Sink(Protocol):
    """Takes bytes in order."""

    def write(self, data: bytes) -> object: ...

    def close(self) -> None: ...


def _key(passphrase: str, salt: bytes, parameters: dict[str, int]) -> bytes:
    from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

    return Scrypt(salt=salt, length=32, **parameters).derive(passphrase.encode("utf-8"))


class Unsealer:
    """Reads a sealed stream; raises `DamagedError` at the first byte that is not as it was sealed."""

    def __init__(self, below: IO[bytes], passphrase: str) -> None:
        from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

        self._below = below
        line = below.readline(4096)
        try:
            facts = json.loads(line)
            parameters = {k: int(facts[k]) for k in ("n", "r", "p")}
            cost = 128 * parameters["n"] * parameters["r"]
            if (
                facts["format"] != _FORMAT
                or min(parameters.values()) < 1
                or cost > _LARGEST_MEMORY
                or parameters["p"] > 16
            ):
                raise ValueError("its parameters are out of range")
            salt = bytes.fromhex(facts["salt"])
            key = _key(passphrase, salt, parameters)
        except (ValueError, KeyError, TypeError) as error:
            raise DamagedError(f"this is no sealed archive: {error}") from None
        self._head = line.rstrip(b"\n")
        self._cipher = ChaCha20Poly1305(key)
        self._number = 0
        self._held = b""
        self._ended = False

    def read(self, count: int = -1) -> bytes:
        parts: list[bytes] = []
        wanted = count
        while wanted != 0:
            if not self._held:
                if self._ended:
                    break
                self._held = self._next()
                continue
            taken = self._held if wanted < 0 else self._held[:wanted]
            self._held = self._held[len(taken) :]
            parts.append(taken)
            wanted -= len(taken) if wanted > 0 else 0
        return b"".join(parts)

    def _next(self) -> bytes:
        from cryptography.exceptions import InvalidTag

        length = self._below.read(4)
        (said,) = struct.unpack(">I", length) if len(length) == 4 else (0,)
        size = said & ~_LAST
        if len(length) < 4 or not 16 <= size <= PIECE + 16:
            raise DamagedError("the sealed archive breaks off or is damaged")
        data = self._below.read(size)
        try:
            piece = self._cipher.decrypt(self._number.to_bytes(12, "big"), data, length + self._head)
        except InvalidTag:
            if self._number == 0:
                raise PassphraseError("the passphrase is wrong, or the archive is damaged") from None
            raise DamagedError("the archive was changed or cut") from None
        self._number += 1
        if said & _LAST:
            self._ended = True
            if self._below.read(1):
                raise DamagedError("something follows behind the end of the sealed archive")
        return piece


class PartsWriter:
    """Writes a file, or with ``largest`` parts ``NAME.001``, ``NAME.002`` … of at most so many bytes.

    All have their names only after `close`; `discard` removes them.
    """

    def __init__(self, target: Path, largest: int | None) -> None:
        self._target, self._largest = target, largest
        self._parts: list[tuple[Path, Path]] = []
        self._out: IO[bytes] | None = None
        self._size = 0
        self.total = 0

    def _open(self) -> IO[bytes]:
        number = len(self._parts) + 1
        final = self._target if self._largest is None else self._target.with_name(f"{self._target.name}.{number:03d}")
        part = final.with_name(f".{final.name}.{os.getpid()}.part")
        self._parts.append((part, final))
        self._size = 0
        return os.fdopen(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, PRIVATE_FILE), "wb")

    def write(self, data: bytes) -> int:
        view = memoryview(data)
        while view:
            if self._out is None:
                self._out = self._open()
            room = len(view) if self._largest is None else self._largest - self._size
            taken = view[:room]
            self._out.write(taken)
            self._size += len(taken)
            self.total += len(taken)
            view = view[len(taken) :]
            if self._largest is not None and self._size >= self._largest:
                self._finish()
        return len(data)

    def _finish(self) -> None:
        if self._out is not None:
            self._out.flush()
            os.fsync(self._out.fileno())
            self._out.close()
            self._out = None

    def close(self) -> None:
        self._finish()
        for part, final in self._parts:
            part.replace(final)
        sync_folder(self._target.parent)

    def discard(self) -> None:
        """Remove what was written."""
        if self._out is not None:
            self._out.close()
        for part, _ in self._parts:
            part.unlink(missing_ok=True)

    @property
    def files(self) -> list[Path]:
        return [final for _, final in self._parts]


class PartsReader:
    """Several files read as one."""

    def __init__(self, files: Sequence[Path]) -> None:
        self._files = list(files)
        self._open: IO[bytes] | None = None

    def read(self, count: int = -1) -> bytes:
        parts: list[bytes] = []
        while count != 0:
            if self._open is None:
                if not self._files:
                    break
                self._open = self._files.pop(0).open("rb")
            data = self._open.read(count)
            if not data:
                self._open.close()
                self._open = None
                continue
            parts.append(data)
            count -= len(data) if count > 0 else 0
        return b"".join(parts)

    def close(self) -> None:
        if self._open is not None:
            self._open.close()
            self._open = None


def parts_of(file: Path) -> list[Path]:
    """The files of an archive: itself, or its parts in order. Raises `UsageError` when there are none or one is
    missing."""
    if file.is_file() and not file.suffix[1:].isdigit():
        return [file]
    base = file.with_suffix("") if file.suffix[1:].isdigit() else file
    found = sorted(p for p in base.parent.glob(f"{_escaped(base.name)}.[0-9][0-9][0-9]*") if p.suffix[1:].isdigit())
    if not found:
        raise UsageError("there is no such archive", where=file, advice="name the file, or its first part")
    numbers = [int(p.suffix[1:]) for p in found]
    for wanted, number in enumerate(numbers, 1):
        if number != wanted:
            raise UsageError(
                f"part {wanted:03d} of the archive is missing", where=base, advice="put all parts into one folder"
            )
    return found


def _escaped(name: str) -> str:
    return "".join(f"[{c}]" if c in "*?[" else c for c in name)

"""A stream sealed with a passphrase, in the open format age (https://age-encryption.org/v1): other programs open it.

Written and read as a stream, which the library for age's keys does with keys alone. The primitives come from a
library: the key from the passphrase by scrypt (RFC 7914), from that the keys of head and pieces by HKDF with SHA-256
(RFC 5869), pieces of 64 KiB by ChaCha20-Poly1305 (RFC 8439) with their number and a mark of the last one as the nonce
(STREAM: Hoang, Reyhanitabar, Rogaway, Vizár, "Online authenticated encryption and its nonce-reuse misuse-resistance",
CRYPTO 2015). So no piece can be changed, left out, swapped or added, nor the end cut off."""

from __future__ import annotations

import base64
import binascii
import hmac
import os
import re
from typing import IO

from keenharbor.base.errors import DamagedError
from keenharbor.snapshot.sealed import PassphraseError, Sink

MARK = b"age-encryption.org/v1\n"
_PIECE = 64 * 1024
_TAG = 16
_WORK = 16
"""Power of two of scrypt's cost: 64 MiB of memory."""
_MOST_WORK = 18
"""A hostile archive could ask for all the memory that there is."""
_RECIPIENT = re.compile(rb"-> scrypt ([A-Za-z0-9+/]{22}) ([1-9][0-9]?)\n")
_SECRET = re.compile(rb"[A-Za-z0-9+/]{43}\n")
_END = re.compile(rb"--- ([A-Za-z0-9+/]{43})\n")
_LONGEST_LINE = 4096
_NO_NONCE = bytes(12)


def _coded(data: bytes) -> bytes:
    return base64.b64encode(data).rstrip(b"=")


def _decoded(text: bytes) -> bytes:
    return base64.b64decode(text + b"=" * (-len(text) % 4), validate=True)


def _wrapping_key(passphrase: str, salt: bytes, work: int) -> bytes:
    from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

    salted = b"age-encryption.org/v1/scrypt" + salt
    return Scrypt(salt=salted, length=32, n=2**work, r=8, p=1).derive(passphrase.encode("utf-8"))


def _derived(file_key: bytes, salt: bytes | None, purpose: bytes) -> bytes:
    from cryptography.hazmat.primitives.hashes import SHA256
    from cryptography.hazmat.primitives.kdf.hkdf import HKDF

    return HKDF(SHA256(), 32, salt, purpose).derive(file_key)


def _sum_of_head(file_key: bytes, head: bytes) -> bytes:
    return hmac.digest(_derived(file_key, None, b"header"), head, "sha256")


def _nonce(number: int, *, last: bool) -> bytes:
    return number.to_bytes(11, "big") + (b"\x01" if last else b"\x00")


class Sealer:
    """Encrypts what is written and hands it on."""

    def __init__(self, below: Sink, passphrase: str) -> None:
        from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

        file_key, salt, nonce = os.urandom(16), os.urandom(16), os.urandom(16)
        secret = ChaCha20Poly1305(_wrapping_key(passphrase, salt, _WORK)).encrypt(_NO_NONCE, file_key, None)
        head = b"%s-> scrypt %s %d\n%s\n---" % (MARK, _coded(salt), _WORK, _coded(secret))
        below.write(head + b" " + _coded(_sum_of_head(file_key, head)) + b"\n" + nonce)
        self._cipher = ChaCha20Poly1305(_derived(file_key, nonce, b"payload"))
        self._below = below
        self._number = 0
        self._held = bytearray()

    def write(self, data: bytes) -> int:
        self._held += data
        # A full piece is held back until more comes: the last one is marked.
        if len(self._held) > _PIECE:
            whole = (len(self._held) - 1) // _PIECE * _PIECE
            view = memoryview(bytes(self._held[:whole]))
            del self._held[:whole]
            self._below.write(b"".join([self._piece(view[at : at + _PIECE]) for at in range(0, whole, _PIECE)]))
        return len(data)

    def _piece(self, piece: bytes | memoryview, *, last: bool = False) -> bytes:
        number = self._number
        self._number += 1
        return self._cipher.encrypt(_nonce(number, last=last), piece, None)

    def close(self) -> None:
        self._below.write(self._piece(bytes(self._held), last=True))
        self._below.close()


class Unsealer:
    """Reads a sealed stream; raises `DamagedError` at the first byte that is not as it was sealed."""

    def __init__(self, below: IO[bytes], passphrase: str) -> None:
        from cryptography.exceptions import InvalidTag
        from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

        self._below = below
        mark, recipient, secret, end = (below.readline(_LONGEST_LINE) for _ in range(4))
        told, closed = _RECIPIENT.fullmatch(recipient), _END.fullmatch(end)
        if mark != MARK or told is None or closed is None or not _SECRET.fullmatch(secret):
            raise DamagedError("this is no archive that was sealed with a passphrase alone")
        work = int(told[2])
        if work > _MOST_WORK:
            raise DamagedError("its parameters are out of range")
        try:
            key = ChaCha20Poly1305(_wrapping_key(passphrase, _decoded(told[1]), work))
            file_key = key.decrypt(_NO_NONCE, _decoded(secret[:-1]), None)
        except (InvalidTag, binascii.Error):
            raise PassphraseError("the passphrase is wrong, or the archive is damaged") from None
        if not hmac.compare_digest(_coded(_sum_of_head(file_key, mark + recipient + secret + b"---")), closed[1]):
            raise DamagedError("the archive's head was changed")
        self._cipher = ChaCha20Poly1305(_derived(file_key, below.read(16), b"payload"))
        self._number = 0
        self._ahead = below.read(_PIECE + _TAG)
        self._held = b""
        self._at = 0
        self._ended = False

    def read(self, count: int = -1) -> bytes:
        parts: list[bytes] = []
        wanted = count
        while wanted != 0:
            if self._at == len(self._held):
                if self._ended:
                    break
                self._held, self._at = self._next(), 0
                continue
            end = len(self._held) if wanted < 0 else min(len(self._held), self._at + wanted)
            parts.append(self._held[self._at : end])
            wanted -= end - self._at if wanted > 0 else 0
            self._at = end
        return b"".join(parts)

    def _next(self) -> bytes:
        from cryptography.exceptions import InvalidTag

        data = self._ahead
        self._ahead = self._below.read(_PIECE + _TAG) if len(data) == _PIECE + _TAG else b""
        last = not self._ahead
        if len(data) < _TAG or (len(data) == _TAG and self._number):
            raise DamagedError("the sealed archive breaks off or is damaged")
        try:
            piece = self._cipher.decrypt(_nonce(self._number, last=last), data, None)
        except InvalidTag:
            raise DamagedError("the archive was changed or cut") from None
        self._number += 1
        self._ended = last
        return piece

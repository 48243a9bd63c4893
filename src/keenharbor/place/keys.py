"""The keys of a place.

What travels is sealed in the open format age (https://age-encryption.org/v1) for one key pair. Its secret half, the
key, is shown once and kept by a person; the site's machine has the public half, which seals and cannot open. From the
key a second pair is derived (HKDF, RFC 5869) that signs the place's states (Ed25519, RFC 8032): the machine keeps its
secret half, and whoever has the key alone can check the signatures. So a machine can be lost, or taken over, without
what it sent being readable; and nobody who only stores the objects can make up a state."""

from __future__ import annotations

import re
from dataclasses import dataclass

from keenharbor.base.errors import DamagedError, UsageError

_MARK = "AGE-SECRET-KEY-1"
_KEY = re.compile(rf"{_MARK}[A-Z0-9]{{58}}", re.ASCII)
_SIGNS = b"keen-harbor-place-1: signs states"
_WORD = 4
WORDS_ASKED = 4


class OtherKeyError(DamagedError):
    """What is there is sealed for another key, or was changed."""

    kind = "other-key"


@dataclass(frozen=True)
class PlaceKey:
    """The secret half of a place's key pair, as the line that ``age`` reads too."""

    secret: str

    @classmethod
    def made(cls) -> PlaceKey:
        """A new one, from the system's randomness."""
        from pyrage import x25519

        return cls(str(x25519.Identity.generate()))

    @classmethod
    def read(cls, text: str, where: object = None) -> PlaceKey:
        """The key in a text: the line itself, alone or among others, or typed in its words. Raises `UsageError`."""
        from pyrage import IdentityError, x25519

        found = _KEY.search(text.upper()) or _KEY.search(re.sub(r"\s+", "", text.upper()))
        try:
            if found is None:
                raise IdentityError
            x25519.Identity.from_str(found[0])
        except IdentityError:
            raise UsageError(
                "this is not the key of a place, or a letter of it is wrong", where=where,
                advice=f"it is one line of 74 letters and digits that begins with {_MARK}",
            ) from None  # fmt: skip
        return cls(found[0])

    @property
    def recipient(self) -> str:
        """The public half."""
        from pyrage import x25519

        return str(x25519.Identity.from_str(self.secret).to_public())

    @property
    def seed(self) -> bytes:
        """The secret half of the pair that signs: 32 bytes."""
        from cryptography.hazmat.primitives.hashes import SHA256
        from cryptography.hazmat.primitives.kdf.hkdf import HKDF

        return HKDF(SHA256(), 32, None, _SIGNS).derive(self.secret.encode())

    @property
    def words(self) -> list[str]:
        """What follows the mark, in words of four letters: to be copied, and read back."""
        rest = self.secret.removeprefix(_MARK)
        return [rest[at : at + _WORD] for at in range(0, len(rest), _WORD)]

    def open(self, sealed: bytes) -> bytes:
        """What was sealed for this key. Raises `OtherKeyError`."""
        return open_sealed(sealed, self.secret)


def open_sealed(sealed: bytes, secret: str) -> bytes:
    """The content of an age file for the holder of ``secret``. Raises `OtherKeyError`."""
    import pyrage

    try:
        return bytes(pyrage.decrypt(sealed, [pyrage.x25519.Identity.from_str(secret)]))
    except (pyrage.DecryptError, ValueError) as error:
        raise OtherKeyError(f"it cannot be opened with this key: {str(error).rstrip('.').lower()}") from None


def seal_for(content: bytes, *recipients: str) -> bytes:
    """An age file that the holder of any of the keys can open."""
    import pyrage

    return bytes(pyrage.encrypt(content, [pyrage.x25519.Recipient.from_str(r) for r in recipients]))


def sign(seed: bytes, content: bytes) -> bytes:
    """The signature of ``content``: 64 bytes."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    return Ed25519PrivateKey.from_private_bytes(seed).sign(content)


def is_signed(seed: bytes, signature: bytes, content: bytes) -> bool:
    """Whether ``content`` was signed with this pair."""
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    try:
        Ed25519PrivateKey.from_private_bytes(seed).public_key().verify(signature, content)
    except InvalidSignature:
        return False
    return True

"""Folders of other machines as texts name them."""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import unquote, urlsplit

from keenharbor.base.errors import UsageError

_ADVICE = "ssh://USER@HOST:PORT/FOLDER; USER@ and :PORT may be left out, and /~/ is the user's own folder"


@dataclass(frozen=True)
class Address:
    """What ``ssh://USER@HOST:PORT/FOLDER`` says; a folder of ``/~/…`` is the user's own."""

    host: str
    port: int | None
    user: str | None
    folder: str

    @classmethod
    def read(cls, text: str) -> Address:
        """From such a text. Raises `UsageError`."""
        try:
            parts = urlsplit(text)
            port = parts.port
        except ValueError as error:
            raise UsageError(f"this is no address of a folder: {error}", where=text, advice=_ADVICE) from None
        if parts.password is not None:
            raise UsageError(
                "a password does not belong into an address", where=f"{parts.scheme}://{parts.hostname}",
                advice="'password' under [line] in the site file names it, by env:NAME or file:PATH",
            )  # fmt: skip
        folder = unquote(parts.path)
        if parts.scheme != "ssh" or not parts.hostname or len(folder) < 2 or parts.query or parts.fragment:
            raise UsageError("this is no address of a folder", where=text, advice=_ADVICE)
        if "\0" in folder or ".." in folder.split("/"):
            raise UsageError("a folder's address must not climb", where=text, advice=_ADVICE)
        return cls(parts.hostname, port, unquote(parts.username) if parts.username else None, folder.rstrip("/"))


def is_far(text: str) -> bool:
    """Whether a text names a folder on another machine."""
    return text.startswith("ssh://")

"""What carries objects to a place and back: one module a protocol, each on a standard client.

An object has a name (``/`` between folders), is written once and never over another; a carrier needs no right to remove
anything but for thinning. Every method may be called by several threads."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol
from urllib.parse import unquote, urlsplit

from keenharbor.base.errors import KeenHarborError, UsageError

Pace = Callable[[int], None]
"""Called before so many bytes are sent or fetched; it waits as long as that has to."""


def no_pace(count: int) -> None:
    """Nothing waits."""


class CarrierError(KeenHarborError):
    """The line, or the other end. ``passing`` where the same may go well in a moment."""

    kind = "place"

    def __init__(self, what: str, *, passing: bool = True, where: object = None, advice: str | None = None) -> None:
        super().__init__(what, where=where, advice=advice)
        self.passing = passing


class NotThereError(CarrierError):
    """There is no such object."""

    def __init__(self, name: str) -> None:
        super().__init__("it is missing", passing=False, where=name)


class Carrier(Protocol):
    """The objects under one folder of a place."""

    resumes: bool
    """Whether `put`, called again for a name at which it was cut, goes on behind what is there."""

    def put(self, name: str, data: bytes, pace: Pace) -> None:
        """Write an object; it is whole there when this returns. Raises `CarrierError`."""

    def get(self, name: str, most: int, pace: Pace) -> bytes:
        """An object of at most ``most`` bytes. Raises `CarrierError`."""

    def sizes(self, under: str) -> dict[str, int]:
        """Names and lengths of all objects whose names begin with the folder ``under``. Raises `CarrierError`."""

    def remove(self, name: str) -> None:
        """Remove an object; nothing happens when there is none. Raises `CarrierError`."""

    def close(self) -> None: ...


@dataclass(frozen=True)
class Whither:
    """Where a place is, and how one gets in."""

    url: str
    user: str | None = None
    password: str | None = field(default=None, repr=False)
    key_file: Path | None = None
    known_hosts: Path | None = None
    endpoint: str | None = None
    region: str | None = None

    @property
    def scheme(self) -> str:
        return urlsplit(self.url).scheme.lower()

    @property
    def path(self) -> str:
        return unquote(urlsplit(self.url).path)

    @property
    def told(self) -> str:
        """For people: without a password."""
        parts = urlsplit(self.url)
        return parts._replace(netloc=parts.netloc.rpartition("@")[2]).geturl() if parts.password else self.url


SCHEMES = ("file", "sftp", "s3", "webdav", "webdavs")


def checked_url(url: str) -> str:
    """The address of a place, or a plain folder's as one. Raises `ValueError`."""
    if url.startswith("/"):
        return Path(url).as_uri()
    parts = urlsplit(url)
    if parts.scheme.lower() not in SCHEMES:
        raise ValueError(
            f"'{url}' is no address of a place: a folder, or one of {', '.join(s + '://' for s in SCHEMES)}"
        )
    if parts.password is not None:
        raise ValueError('a password does not stand in an address; say password = "env:NAME" or "file:PATH"')
    if parts.scheme == "file":
        if parts.netloc or not parts.path.startswith("/"):
            raise ValueError(f"'{url}' names no folder: file:///FOLDER")
    elif not parts.hostname:
        raise ValueError(f"'{url}' names no host")
    return url


MOST_NAMES = 4_000_000


class Names(dict[str, int]):
    """The objects that another machine lists, with their lengths: names that none of ours can have are passed over, and
    a list that does not end is no list."""

    def note(self, name: str, size: int) -> None:
        """Raises `CarrierError` for one too many."""
        if is_plain(name):
            if len(self) >= MOST_NAMES:
                raise CarrierError("the place lists more objects than any has", passing=False)
            self[name] = max(size, 0)


_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._ -]{0,100}(/[A-Za-z0-9][A-Za-z0-9._ -]{0,100}){0,6}", re.ASCII)


def is_plain(name: str) -> bool:
    """Whether a name that another machine tells is one that an object may have."""
    return bool(_NAME.fullmatch(name))


def open_carrier(whither: Whither, *, makes: bool = False) -> Carrier:
    """The carrier to a place; its folder is made where it ``makes`` one. Raises `CarrierError`, `UsageError`."""
    match whither.scheme:
        case "file":
            from keenharbor.place.carriers.folder import FolderCarrier

            return FolderCarrier(Path(whither.path), makes=makes)
        case "sftp":
            from keenharbor.place.carriers.sftp import SftpCarrier

            return SftpCarrier(whither, makes=makes)
        case "s3":
            from keenharbor.place.carriers.s3 import S3Carrier

            return S3Carrier(whither)
        case "webdav" | "webdavs":
            from keenharbor.place.carriers.webdav import WebdavCarrier

            return WebdavCarrier(whither, makes=makes)
    raise UsageError(f"nothing carries to '{whither.told}'")

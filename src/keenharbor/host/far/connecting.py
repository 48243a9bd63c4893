"""Connections by SSH: keys, the agent, and the user's own configuration of SSH count as they do everywhere; a host that
is not known, or has another key than before, is not spoken to."""

from __future__ import annotations

import asyncio
import logging
import re
import threading
from collections.abc import Coroutine
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from keenharbor.base.errors import KeenHarborError

if TYPE_CHECKING:
    from asyncssh import SSHClientConnection

T = TypeVar("T")
CONNECT_SECONDS = 30
_QUICK_CIPHERS = "^aes128-gcm@openssh.com,aes256-gcm@openssh.com"
"""Before the others: with what processors do themselves a megabyte costs a third."""
_PACKING = "zlib@openssh.com,none"


@dataclass(frozen=True)
class Door:
    """Where a machine is reached, and by what. What is empty is as the user's configuration of SSH says."""

    host: str
    port: int | None = None
    user: str | None = None
    password: str | None = None
    key_file: Path | None = None
    known_hosts: Path | None = None

    @property
    def told(self) -> str:
        return f"{self.user}@{self.host}" if self.user else self.host


class LineError(KeenHarborError):
    """A line could not be opened, or broke."""

    kind = "line"


class LineLostError(LineError):
    """It broke while something was under way."""


def names_ciphers(config: Path) -> bool:
    """Whether the user's configuration of SSH says which ciphers are to be used."""
    try:
        return bool(re.search(r"(?im)^\s*(ciphers\b|include\b)", config.read_text(errors="replace")))
    except OSError:
        return False


async def connected(door: Door, *, packs: bool = False) -> SSHClientConnection:
    """A connection. With ``packs``, what goes over it is made smaller by SSH itself. Raises what `line_error` knows."""
    import asyncssh

    config = Path("~/.ssh/config").expanduser()
    quick = () if names_ciphers(config) else _QUICK_CIPHERS
    return await asyncssh.connect(  # what is () is as the user's configuration says
        door.host, port=door.port or (), username=door.user or (), password=door.password,
        client_keys=[str(door.key_file)] if door.key_file is not None else (),
        known_hosts=str(door.known_hosts) if door.known_hosts is not None else (),
        config=[str(config)] if config.is_file() else None, connect_timeout=CONNECT_SECONDS,
        encryption_algs=quick, compression_algs=_PACKING if packs else "none", login_timeout=CONNECT_SECONDS,
        keepalive_interval=15, keepalive_count_max=4,
    )  # fmt: skip


def line_error(error: BaseException, door: Door, where: str) -> LineError:
    """What hinders, for people; ``where`` names the table of the site file that says how the machine is reached."""
    import asyncssh

    if isinstance(error, asyncssh.HostKeyNotVerifiable):
        return LineError(
            f"the key of {door.host} is not known, or is another than before: {error.reason}",
            advice=f"make sure that it is the right one ('ssh {door.host}' shows it and notes it), or name a file "
            f"by 'known_hosts' of {where}",
        )  # fmt: skip
    if isinstance(error, asyncssh.PermissionDenied):
        return LineError(
            f"{door.host} does not let '{door.user or 'you'}' in",
            advice=f"'key_file' of {where} names a key of SSH, 'password' a secret by env:NAME or file:PATH",
        )
    if isinstance(error, (asyncssh.KeyImportError, asyncssh.ConfigParseError)):
        return LineError(
            f"the key or the configuration of SSH cannot be read: {error}", where=door.key_file,
            advice="a key with a passphrase is used through an agent: 'ssh-add' gives it to that",
        )  # fmt: skip
    said = (error.strerror if isinstance(error, OSError) else None) or str(error) or type(error).__name__
    return LineError(f"the line to {door.told}: {said}", advice="try again when the machine answers")


class LoopThread:
    """A thread in which connections live; others give it work and wait."""

    def __init__(self, name: str) -> None:
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name=name, daemon=True)
        self._thread.start()
        logging.getLogger("asyncio").setLevel(logging.ERROR)  # a line that breaks is told of by what waits for it

    @property
    def loop(self) -> asyncio.AbstractEventLoop:
        return self._loop

    def do(self, work: Coroutine[Any, Any, T], seconds: float | None = None) -> T:
        """What ``work`` returns, or raises."""
        waiting = asyncio.run_coroutine_threadsafe(work, self._loop)
        try:
            return waiting.result(seconds)
        except BaseException:
            waiting.cancel()
            raise

    def soon(self, work: Any, *given: Any) -> None:
        """Let ``work`` be called there."""
        self._loop.call_soon_threadsafe(work, *given)

    def end(self) -> None:
        """End the thread."""
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(10)
        if not self._thread.is_alive():
            self._loop.close()

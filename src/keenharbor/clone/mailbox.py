"""A mail server that delivers nothing: it takes every mail on loopback and keeps it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from email import message_from_bytes, policy
from email.utils import getaddresses
from pathlib import Path
from types import TracebackType
from typing import Any


@dataclass(frozen=True)
class Message:
    """A mail that was caught."""

    to: tuple[str, ...]
    subject: str
    body: str


def message_of(raw: bytes, to: Sequence[str] = ()) -> Message:
    """A mail as it was sent; addressees are those of its envelope, else those that it names."""
    mail = message_from_bytes(raw, policy=policy.default)
    part = mail.get_body(("plain", "html"))
    named = [a for _, a in getaddresses([str(v) for n in ("To", "Cc", "Bcc") for v in mail.get_all(n, [])])]
    return Message(
        tuple(to) or tuple(named), str(mail["Subject"] or ""), part.get_content() if part is not None else ""
    )


def kept_in(outbox: Path) -> list[Message]:
    """The mails in a folder, oldest first: those that a program for sending mail was given."""
    return [message_of(file.read_bytes()) for file in sorted(outbox.glob("*.eml"))]


class _Keep:
    def __init__(self) -> None:
        self.messages: list[Message] = []

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        self.messages.append(message_of(envelope.content, envelope.rcpt_tos))
        return "250 kept"


class Mailbox:
    """Listens on a loopback port of its own for the time of a ``with`` block."""

    def __init__(self, port: int = 0) -> None:
        self._keep = _Keep()
        self._wanted = port
        self.port = 0

    @property
    def messages(self) -> list[Message]:
        """What was caught so far."""
        return list(self._keep.messages)

    def __enter__(self) -> Mailbox:
        # Loaded here: every command that knows of clones would else wait for it.
        from aiosmtpd.controller import Controller

        from keenharbor.clone.server import free_port

        self.port = self._wanted or free_port()
        self._controller = Controller(self._keep, hostname="127.0.0.1", port=self.port)
        self._controller.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._controller.stop()

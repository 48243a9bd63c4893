"""Secrets that a file names and does not hold: ``env:NAME`` and ``file:PATH``."""

from __future__ import annotations

import os
from pathlib import Path


def is_reference(value: str) -> bool:
    """Whether a value says where a secret is, and not the secret."""
    return value.startswith(("env:", "file:"))


def referred(value: str, base: Path = Path()) -> str:
    """What a reference stands for; any other value as it is. A path is taken from ``base``. Raises LookupError, in
    words, for what is not there."""
    if value.startswith("env:"):
        name = value.removeprefix("env:")
        if (said := os.environ.get(name)) is None:
            raise LookupError(f"the variable {name} is not set")
        return said
    if value.startswith("file:"):
        path = value.removeprefix("file:")
        try:
            return (base / path).read_text(encoding="utf-8").rstrip("\r\n")
        except (OSError, UnicodeDecodeError):
            raise LookupError(f"the file {path} cannot be read") from None
    return value

"""Writes that are there after a power cut, or not at all."""

from __future__ import annotations

import json
import os
import secrets
from pathlib import Path
from typing import Any

PRIVATE_FILE = 0o600
PRIVATE_FOLDER = 0o700


def sync_folder(folder: Path) -> None:
    """Make a rename or a removal in ``folder`` durable."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def private_folder(folder: Path) -> Path:
    """Create ``folder`` (and what is missing above it) readable by the owner only; an existing one is left alone."""
    for missing in reversed([p for p in (folder, *folder.parents) if not p.exists()]):
        missing.mkdir(mode=PRIVATE_FOLDER, exist_ok=True)
    return folder


def temporary_name(final: Path) -> Path:
    """A name beside ``final`` that no other writer uses."""
    return final.with_name(f".{final.name}.{os.getpid()}-{secrets.token_hex(4)}.part")


def write_durably(path: Path, data: bytes, mode: int = PRIVATE_FILE) -> None:
    """Write ``data`` beside ``path``, force it to disk, and put it in place by one rename."""
    part = temporary_name(path)
    descriptor = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode)
    try:
        with os.fdopen(descriptor, "wb") as out:
            out.write(data)
            out.flush()
            os.fsync(out.fileno())
        part.chmod(mode)
        part.replace(path)
    except BaseException:
        part.unlink(missing_ok=True)
        raise
    sync_folder(path.parent)


def write_json(path: Path, value: Any) -> None:
    """Write ``value`` as indented JSON, durably."""
    write_durably(path, (json.dumps(value, indent=1, ensure_ascii=False) + "\n").encode())

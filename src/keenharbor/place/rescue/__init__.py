"""What lies beside everything that is sent: a program and a page by which it is read without this tool."""

from __future__ import annotations

from importlib.resources import files


def program_text() -> str:
    """The program: one file, for Python's own library and the programs age and zstd."""
    return files(__package__).joinpath("rescue.py").read_text(encoding="utf-8")


def guide_text() -> str:
    """The page that says what to type."""
    return files(__package__).joinpath("READ_ME.txt").read_text(encoding="utf-8")

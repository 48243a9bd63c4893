"""Settings files: reading a key, and setting one while everything else in the file stays as it is."""

from __future__ import annotations

import configparser
import re
from pathlib import Path

from keenharbor.base.errors import UsageError


def read_ini(text: str, where: Path) -> dict[str, str]:
    """Every value by ``section.key``. Raises `UsageError` when the text is not an INI file."""
    parser = configparser.ConfigParser(interpolation=None)
    try:
        parser.read_string(text)
    except configparser.Error as error:
        line = getattr(error, "lineno", None)
        message = str(error).splitlines()[0]
        raise UsageError(f"this settings file cannot be read: {message}", where=where, line=line) from None
    return {f"{section}.{key}": value for section in parser.sections() for key, value in parser[section].items()}


def read_settings(file: Path) -> dict[str, str]:
    """The values of a settings file by ``section.key``."""
    try:
        return read_ini(file.read_text(encoding="utf-8"), file)
    except FileNotFoundError:
        raise UsageError("the settings file is not there", where=file) from None
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"the settings file cannot be read: {error}", where=file) from error


def with_ini_value(text: str, key: str, value: str) -> str:
    """``text`` with ``section.key`` set to ``value``; comments, order and blanks stay. Raises KeyError if it is not there."""
    section, _, name = key.partition(".")
    inside = False
    lines = text.splitlines(keepends=True)
    for number, line in enumerate(lines):
        if header := re.match(r"\s*\[([^\]]+)\]", line):
            inside = header[1] == section
            continue
        found = re.match(r"(\s*([^=:#;]+?)\s*[=:][ \t]*)(.*?)(\s*)$", line, re.DOTALL) if inside else None
        if found is not None and found[2].strip().lower() == name.lower():
            lines[number] = found[1] + value + found[4]
            return "".join(lines)
    raise KeyError(key)

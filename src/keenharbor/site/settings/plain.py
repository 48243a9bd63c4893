"""Settings line by line: INI files, and files of environment variables."""

from __future__ import annotations

import re
from collections.abc import Iterator

from keenharbor.site.settings.common import Setting, SettingsError

_HEADER = re.compile(r"\s*\[([^\]\n]+)\]\s*(?:[#;].*)?$")
_INI_LINE = re.compile(r"(\s*([^\s=:#;\[][^=:]*?)\s*[=:][ \t]*)(.*?)\s*$")
_ENV_LINE = re.compile(r"\s*(?:export\s+)?([A-Za-z_][\w.]*)\s*=[ \t]*")
_UNESCAPED = {"n": "\n", "r": "\r", "t": "\t"}


def read_ini(text: str) -> Iterator[Setting]:
    """Every value by ``section.key``; keys before the first section by themselves. Values go on in lines that are
    indented."""
    section, at = "", 0
    last: list[int | str] | None = None
    found: list[tuple[str, str, int, int, int]] = []
    for number, raw in enumerate(text.splitlines(keepends=True), 1):
        line, here = raw.rstrip("\r\n"), at
        at += len(raw)
        bare = line.strip()
        if not bare or bare[0] in "#;":
            continue
        if header := _HEADER.match(line):
            section, last = header[1].strip(), None
            continue
        if line[0] in " \t" and last is not None:
            name, value, first, start, _ = found[-1]
            found[-1] = (name, f"{value}\n{bare}", first, start, here + len(line))
            continue
        entry = _INI_LINE.match(line)
        if entry is None:
            if re.fullmatch(r"[\w.-]+", bare):  # a key without a value
                continue
            raise SettingsError("this is neither a section nor a key with a value", number)
        name = f"{section}.{entry[2].strip().lower()}" if section else entry[2].strip()
        start = here + len(entry[1])
        found.append((name, entry[3], number, start, start + len(entry[3])))
        last = [number]
    for name, value, number, start, end in found:
        unquoted = value[1:-1] if len(value) > 1 and value[0] == value[-1] and value[0] in "\"'" else value
        quote = value[0] if unquoted is not value else ""
        yield Setting(name, unquoted, number, start, end, write=lambda v, q=quote: f"{q}{v}{q}")  # type: ignore[misc]


def read_env(text: str) -> Iterator[Setting]:
    """Every ``NAME=value``; quotes are taken off, ``${OTHER}`` is filled in from what stands above."""
    known: dict[str, str] = {}
    at, number = 0, 0
    lines = text.splitlines(keepends=True)
    while number < len(lines):
        raw = lines[number]
        number += 1
        here, at = at, at + len(raw)
        entry = _ENV_LINE.match(raw)
        if entry is None:
            if raw.strip() and not raw.lstrip().startswith("#"):
                raise SettingsError("this is no NAME=value", number)
            continue
        rest, start = raw[entry.end() :].rstrip("\r\n"), here + entry.end()
        quote = rest[:1] if rest[:1] in ("'", '"') else ""
        first = number
        if quote:
            end = _closing(text, start + 1, quote)
            if end is None:
                raise SettingsError("a quote is not closed", number)
            value = text[start + 1 : end]
            while at < end:  # a value over several lines
                at += len(lines[number])
                number += 1
            if quote == '"':
                value = re.sub(r"\\(.)", lambda m: _UNESCAPED.get(m[1], m[1]), value, flags=re.DOTALL)
            end += 1
        else:
            value = re.split(r"\s+#", rest)[0].rstrip()
            end = start + len(value)
        if quote != "'":
            value = re.sub(r"\$\{(\w+)\}", lambda m: known.get(m[1], ""), value)
        known[entry[1]] = value
        yield Setting(entry[1], value, first, start, end, write=lambda v, q=quote: _as_env(v, q))  # type: ignore[misc]


def _closing(text: str, start: int, quote: str) -> int | None:
    escaped = False
    for at in range(start, len(text)):
        if escaped:
            escaped = False
        elif text[at] == "\\" and quote == '"':
            escaped = True
        elif text[at] == quote:
            return at
    return None


def _as_env(value: str, quote: str) -> str:
    if not quote and not re.search(r"[\s#\"'$\\]", value):
        return value
    if quote == "'" and "'" not in value:
        return f"'{value}'"
    return '"' + re.sub(r'(["\\])', r"\\\1", value).replace("\n", "\\n") + '"'

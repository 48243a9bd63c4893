"""Every code file parsed by the target runtime's own parser. Nothing of the site is run: it is only parsed."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import PurePosixPath

from keenharbor.base.errors import KeenHarborError
from keenharbor.host.programs import ProgramError, Programs, ProgramsHere

# One process parses all files. PHP tells what it parses to a tokenizer that fails as the language would
# (https://www.php.net/manual/en/function.token-get-all.php, TOKEN_PARSE); Python compiles without running
# (https://docs.python.org/3/library/functions.html#compile).
_PHP = (
    "if (!function_exists('token_get_all')) { fwrite(STDERR, 'its tokenizer extension is missing'); exit(3); }"
    "while (($f = fgets(STDIN)) !== false) { $f = json_decode($f); $c = @file_get_contents($f); if ($c === false) "
    "continue;"
    "try { token_get_all($c, TOKEN_PARSE); } catch (ParseError $e) { echo json_encode([$f, $e->getLine(), "
    "$e->getMessage()],"
    ' JSON_INVALID_UTF8_SUBSTITUTE), "\\n"; } }'
)
_PYTHON = """
import json, sys, warnings
warnings.simplefilter("ignore")
for line in sys.stdin:
    path = json.loads(line)
    try:
        with open(path, "rb") as file:
            compile(file.read(), path, "exec", dont_inherit=True)
    except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
        print(json.dumps([path, getattr(error, "lineno", 0) or 0, getattr(error, "msg", str(error))]))
    except OSError:
        pass
"""
_PARSERS: Mapping[str, tuple[tuple[str, ...], list[str]]] = {
    "php": (
        (".php", ".phtml", ".inc"),
        ["-d", "auto_prepend_file=", "-d", "auto_append_file=", "-d", "memory_limit=1G", "-r", _PHP],
    ),
    "python": ((".py",), ["-I", "-S", "-c", _PYTHON]),
}
_SECONDS = 600


@dataclass(frozen=True)
class SyntaxFault:
    """A file that the runtime cannot parse: where, and in the runtime's words why."""

    path: str
    line: int
    message: str


def can_parse(runtime: str) -> bool:
    """Whether the parser of that runtime can be asked."""
    return runtime in _PARSERS


def code_files(runtime: str, paths: Iterable[str]) -> list[str]:
    """Of ``paths`` those that hold that runtime's code."""
    return [p for p in paths if PurePosixPath(p).suffix.lower() in _PARSERS[runtime][0]]


def syntax_faults(
    runtime: str, program: str, root: str, paths: Iterable[str], programs: Programs | None = None
) -> list[SyntaxFault]:
    """The files of ``paths`` (relative to ``root``) that ``program`` cannot parse; it is one of ``programs`` (this
    machine's). Raises `KeenHarborError` when it cannot be asked."""
    asked = "".join(json.dumps(f"{root}/{p}") + "\n" for p in paths)
    try:
        said = (programs or ProgramsHere()).ask([program, *_PARSERS[runtime][1]], seconds=_SECONDS, told=asked.encode())
    except ProgramError as error:
        raise KeenHarborError(f"the runtime's parser cannot be asked: {error.words[-200:]}", where=program) from None
    faults = []
    for line in said.splitlines():
        path, number, message = json.loads(line)
        faults.append(SyntaxFault(str(path).removeprefix(f"{root}/"), int(number), str(message)))
    return sorted(faults, key=lambda f: (f.path, f.line))

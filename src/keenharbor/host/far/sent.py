"""What is sent to a far machine: the helper with the modules that it is made of, as one program for its Python."""

from __future__ import annotations

import importlib.resources
import json
import zlib
from functools import cache

MODULES = (
    "base.errors", "base.durable", "base.text", "host.areas", "host.entries", "host.folders", "host.programs",
    "host.lease", "host.protocol", "host.reading", "host.writing", "host.environment", "host.sqlitefile",
    "host.far.frames", "host.far.trees", "host.far.statements", "host.far.helper",
)  # fmt: skip
OLDEST_PYTHON = (3, 9)
_PACKAGES = ("keenharbor", "keenharbor.base", "keenharbor.host", "keenharbor.host.far")

_BEGINNING = """
import sys, json, types, importlib.abc, importlib.util
if sys.version_info < OLDEST:
    sys.exit("its Python is too old: %d.%d" % sys.version_info[:2])
class Sent(importlib.abc.MetaPathFinder, importlib.abc.Loader):
    def __init__(self, sources): self.sources = sources
    def find_spec(self, name, path, target=None):
        if name in self.sources:
            return importlib.util.spec_from_loader(name, self, is_package=self.sources[name] == "")
    def create_module(self, spec): return None
    def exec_module(self, module):
        exec(compile(self.sources[module.__name__], "<" + module.__name__ + ">", "exec"), module.__dict__)
sys.meta_path.insert(0, Sent(json.loads(SOURCES)))
import os
answers = os.fdopen(os.dup(1), "wb", 0)
os.dup2(2, 1)
from keenharbor.host.far.helper import main
main(sys.stdin.buffer, answers)
"""

FIRST = "import sys,zlib;r=sys.stdin.buffer;exec(zlib.decompress(r.read(int(r.readline()))))"
"""What stands in the argument list of the far Python; all else comes over its standard input."""


@cache
def program() -> bytes:
    """The program, with its length before it."""
    here = importlib.resources.files("keenharbor")
    sources = dict.fromkeys(_PACKAGES, "")
    for name in MODULES:
        *folders, file = name.split(".")
        sources[f"keenharbor.{name}"] = here.joinpath(*folders, f"{file}.py").read_text(encoding="utf-8")
    text = f"OLDEST = {OLDEST_PYTHON!r}\nSOURCES = {json.dumps(sources)!r}\n{_BEGINNING}"
    packed = zlib.compress(text.encode(), 9)
    return f"{len(packed)}\n".encode() + packed

"""Names that a package offers, from modules of its own that load when the first of their names is used: a command that
lists snapshots does not wait for what takes them."""

from __future__ import annotations

import importlib
import sys
from collections.abc import Callable, Mapping


def offered(package: str, modules: Mapping[str, str]) -> Callable[[str], object]:
    """The ``__getattr__`` (PEP 562) of a ``package`` whose ``modules``, by name, have the names that are listed behind
    each, with spaces between."""
    home = {name: module for module, names in modules.items() for name in names.split()}

    def get(name: str) -> object:
        if name not in home:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        value = getattr(importlib.import_module(f"{package}.{home[name]}"), name)
        setattr(sys.modules[package], name, value)
        return value

    return get

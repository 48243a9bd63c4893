"""The machine under a site: its files, its programs, a lease, the way to its databases."""

from typing import TYPE_CHECKING

from keenharbor.base.lazily import offered

if TYPE_CHECKING:
    from keenharbor.host.areas import AREAS, AreaRules, fits
    from keenharbor.host.entries import Entry, FileKind, Scan, Stamp
    from keenharbor.host.here import Here
    from keenharbor.host.paths import AnyPath, ReadPath, relative_to, size_of
    from keenharbor.host.protocol import Changes, Endpoint, Facts, Files, Host, ReadFiles, WalkRules
    from keenharbor.host.reading import PIECE_SIZE, ReadTree
    from keenharbor.host.writing import FileTree
else:
    __getattr__ = offered(
        __name__,
        {
            "areas": "AREAS AreaRules fits",
            "entries": "Entry FileKind Scan Stamp",
            "here": "Here",
            "paths": "AnyPath ReadPath relative_to size_of",
            "protocol": "Changes Endpoint Facts Files Host ReadFiles WalkRules",
            "reading": "PIECE_SIZE ReadTree",
            "writing": "FileTree",
        },
    )

__all__ = [
    "AREAS", "PIECE_SIZE", "AnyPath", "AreaRules", "Changes", "Endpoint", "Entry", "Facts", "FileKind", "FileTree",
    "Files", "Here", "Host", "ReadFiles", "ReadPath", "ReadTree", "Scan", "Stamp", "WalkRules", "fits", "relative_to",
    "size_of",
]  # fmt: skip

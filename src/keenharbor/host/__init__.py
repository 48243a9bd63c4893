"""The machine under a site: its files, its programs, a lease, the way to its databases."""

from keenharbor.host.areas import AREAS, AreaRules, fits
from keenharbor.host.entries import Entry, FileKind, Scan, Stamp
from keenharbor.host.here import Here
from keenharbor.host.paths import AnyPath, ReadPath, relative_to, size_of
from keenharbor.host.protocol import Changes, Endpoint, Facts, Files, Host, ReadFiles, WalkRules
from keenharbor.host.reading import PIECE_SIZE, ReadTree
from keenharbor.host.writing import FileTree

__all__ = [
    "AREAS", "PIECE_SIZE", "AnyPath", "AreaRules", "Changes", "Endpoint", "Entry", "Facts", "FileKind", "FileTree",
    "Files", "Here", "Host", "ReadFiles", "ReadPath", "ReadTree", "Scan", "Stamp", "WalkRules", "fits", "relative_to",
    "size_of",
]  # fmt: skip

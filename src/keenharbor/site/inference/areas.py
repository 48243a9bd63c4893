"""What the folders of a site are for."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Mapping, Sequence
from pathlib import PurePosixPath

from keenharbor.base.text import plural
from keenharbor.site.inference.packages import Home
from keenharbor.tree import Entry

_BY_NAME = (
    ("cache", re.compile(r"(?i)^(cache|caches|tmp|temp|compiled|views_cache|template_cache)$")),
    ("logs", re.compile(r"(?i)^(log|logs)$")),
    (
        "media",
        re.compile(
            r"(?i)^(media|uploads?|images|pictures|files|userfiles|user-media|public_files|original_images|"
            r"attachments|downloads)$"
        ),
    ),
    ("core", re.compile(r"(?i)^(core|includes?|lib|libraries|system|kernel|framework|inc|engine)$")),
)
_CODE = re.compile(r"(?i)\.(php|py|js|rb|pl|html?|twig|css)$")
_PICTURES = re.compile(r"(?i)\.(jpe?g|png|gif|webp|svg|pdf|mp[34]|webm|avif|ico|docx?|xlsx?|zip)$")
_DEEPEST = 4


def areas_in(
    entries: Mapping[str, Entry], homes: Sequence[Home], settings_files: Sequence[str], core_files: Sequence[str]
) -> tuple[dict[str, list[str]], dict[str, str]]:
    """The paths of each area, and by path why."""
    areas: dict[str, list[str]] = defaultdict(list)
    why: dict[str, str] = {}

    def add(area: str, path: str, reason: str) -> None:
        if path not in why:
            areas[area].append(path)
            why[path] = reason

    for path in dict.fromkeys(settings_files):
        add("settings", path, "settings stand in it")
    for home in homes:
        if home.part.folder.startswith(".."):
            continue  # an environment beside the site: not of its tree
        add("extensions" if home.kind == "extension" else "themes", home.part.folder, home.evidence)
    counts = _counts(entries)
    for path, entry in entries.items():
        if entry.kind != "folder" or path.count("/") >= _DEEPEST or _below(path, why):
            continue
        for area, pattern in _BY_NAME:
            if not pattern.match(PurePosixPath(path).name):
                continue
            code, pictures, total = counts.get(path, (0, 0, 0))
            if area == "media" and (not pictures or code > pictures):
                continue
            if area == "core" and not code:
                continue
            if area in ("cache",) and path.startswith(("core/", "lib/", "includes/", "src/")) and code:
                continue  # the code of a cache is no cache
            add(area, path, f"its name, and {plural(total, 'file')} in it")
            break
    for path in core_files:
        if "/" not in path and path in entries:
            add("core", path, "it stands at the top, with the core's version")
    return dict(areas), why


def _below(path: str, taken: Mapping[str, str]) -> bool:
    return any(path.startswith(t + "/") for t in taken)


def _counts(entries: Mapping[str, Entry]) -> dict[str, tuple[int, int, int]]:
    """By folder: files of code, pictures and documents, and all files below."""
    counts: dict[str, list[int]] = defaultdict(lambda: [0, 0, 0])
    for path, entry in entries.items():
        if entry.kind != "file":
            continue
        code, picture = bool(_CODE.search(path)), bool(_PICTURES.search(path))
        above = PurePosixPath(path).parent
        for depth, folder in enumerate([above, *above.parents]):
            if depth > 12 or folder.as_posix() == ".":
                break
            held = counts[folder.as_posix()]
            held[0] += code
            held[1] += picture
            held[2] += 1
    return {k: (v[0], v[1], v[2]) for k, v in counts.items()}

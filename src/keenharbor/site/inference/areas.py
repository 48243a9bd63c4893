"""What the folders of a site are for."""

from __future__ import annotations

import posixpath
import re
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from keenharbor.base.text import plural
from keenharbor.site.inference.packages import CALLED_AFTER, Home
from keenharbor.site.inference.sources import Source, in_dependencies
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
_AMBIGUOUS = re.compile(r"(?i)^(images|pictures|files|downloads)$")
"""Names that folders of code bear as well as folders of uploads."""
_UPLOADS = re.compile(r"(?i)^(uploads?|userfiles|attachments)$")
"""Names that nothing but a folder of uploads bears, also before the first of them came."""
_CHANGING = re.compile(r"(?i)(^|/)(var|storage|data|writable|runtime|tmp|temp|app|sites|files|public|media|"
                       r"content|user)$")  # fmt: skip
_BY_KEY = (
    ("cache", re.compile(r"(?i)(cache|tmp|temp(_?dir)?|lock|compile)")),
    ("logs", re.compile(r"(?i)(^|[._-])logs?([._-]|$)|logs?_?(dir|path|folder)")),
    (
        "media",
        re.compile(r"(?i)(upload|media|icons?|images?|pictures?|attachments?|avatars?|userfiles|storage|files?)"),
    ),
)
"""What a setting that names a folder says of it, by its key."""
_CODE = re.compile(r"(?i)\.(php|py|js|rb|pl|html?|twig|css)$")
_PROGRAM = re.compile(r"(?i)\.(php|py|rb|pl)$")
_PICTURES = re.compile(r"(?i)\.(jpe?g|png|gif|webp|svg|pdf|mp[34]|webm|avif|ico|docx?|xlsx?|zip)$")
_DEEPEST = 4


@dataclass(frozen=True)
class _Held:
    """What lies below a folder: files of code, pictures and documents, all files, and the newest of the pictures;
    ``own_code`` are files of code in the folder itself."""

    code: int = 0
    pictures: int = 0
    files: int = 0
    newest_picture: int = 0
    own_code: int = 0


class _Areas:
    """The paths of each area, and by path why; the first that speaks for a path counts."""

    def __init__(self) -> None:
        self.paths: dict[str, list[str]] = defaultdict(list)
        self.why: dict[str, str] = {}

    def add(self, area: str, path: str, reason: str) -> None:
        if path not in self.why:
            self.paths[area].append(path)
            self.why[path] = reason


def areas_in(
    entries: Mapping[str, Entry], homes: Sequence[Home], settings_files: Sequence[str], core_files: Sequence[str],
    sources: Sequence[Source] = (),
) -> tuple[dict[str, list[str]], dict[str, str]]:  # fmt: skip
    """The paths of each area, and by path why: by what settings say of a folder, by what stands in it, by its name.
    Code is never cache, and a library's folder for logs holds none."""
    found, held = _Areas(), _held_by_folders(entries)
    for path in dict.fromkeys(settings_files):
        found.add("settings", path, "settings stand in it")
    above = Counter((h.kind, h.part.folder.rpartition("/")[0]) for h in homes)
    for home in homes:
        if home.part.folder.startswith(".."):  # an environment beside the site: not of its tree
            continue
        area, parent = ("extensions" if home.kind == "extension" else "themes"), home.part.folder.rpartition("/")[0]
        # Folders of several makers in one: those of the next maker will lie there, too.
        whole = parent and above[home.kind, parent] > 1 and CALLED_AFTER.search(parent.rpartition("/")[2])
        found.add(area, parent if whole else home.part.folder, home.evidence)
    for area, path, reason in _said_by_settings(entries, sources):
        if not held.get(path, _Held()).code:
            found.add(area, path, reason)
    newest_code = max((e.mtime_ns for p, e in entries.items() if e.kind == "file" and _CODE.search(p)), default=0)
    for path, entry in entries.items():
        if (
            entry.kind != "folder"
            or path.count("/") >= _DEEPEST
            or _below(path, found.why)
            or in_dependencies(f"{path}/")
        ):
            continue
        there = held.get(path, _Held())
        for area, pattern in _BY_NAME:
            if pattern.match(posixpath.basename(path)) and _may_be(area, path, held, newest_code):
                found.add(area, path, f"its name, and {plural(there.files, 'file')} in it")
                break
    for path in core_files:
        if "/" not in path and path in entries:
            found.add("core", path, "it stands at the top, with the core's version")
    _rest_of_the_core(entries, held, found)
    return dict(found.paths), found.why


def _said_by_settings(entries: Mapping[str, Entry], sources: Sequence[Source]) -> Iterator[tuple[str, str, str]]:
    """Folders of the tree that the site's own settings name, by what the names of the settings speak of."""
    for source in sources:
        if not source.is_own:
            continue
        for setting in source.own_settings:
            path = setting.value.strip().removeprefix("./").strip("/")
            entry = entries.get(path)
            if entry is None or entry.kind != "folder":
                continue
            area = next((a for a, words in _BY_KEY if words.search(setting.key)), None)
            if area is not None:
                yield area, path, source.evidence(setting)


_A_FOLDER_OF_CODE = 8
"""A folder with so many files of code in itself is one: what lies below it came with the code."""


def _came_with_code(path: str, held: Mapping[str, _Held]) -> bool:
    above = posixpath.dirname(path)
    while above:
        if held.get(above, _Held()).own_code >= _A_FOLDER_OF_CODE:
            return True
        above = posixpath.dirname(above)
    return False


def _may_be(area: str, path: str, held: Mapping[str, _Held], newest_code: int) -> bool:
    """Whether what lies in a folder of that name is what the name says."""
    there = held.get(path, _Held())
    match area:
        case "cache":
            # Generated code lies at the top, or in a folder for what changes; code anywhere else is a library's.
            above = posixpath.dirname(path)
            return not there.code or not above or bool(_CHANGING.search(above))
        case "logs":
            return not there.code
        case "media":
            if _UPLOADS.match(posixpath.basename(path)) and not there.files:
                return True
            if not there.pictures or there.code > there.pictures:
                return False
            # Pictures of the code itself came with it.
            beside_code = _AMBIGUOUS.match(posixpath.basename(path)) or _came_with_code(path, held)
            return not beside_code or there.newest_picture > newest_code
        case _:
            return there.code > 0


def _rest_of_the_core(entries: Mapping[str, Entry], held: Mapping[str, _Held], found: _Areas) -> None:
    """Where code stands at the top itself, what else is at the top with code in it is the core's, too."""
    top = [p for p, e in entries.items() if "/" not in p and e.kind == "file" and _CODE.search(p)]
    if not any(re.search(r"(?i)\.(php|py|js|rb|pl)$", p) for p in top):
        return
    others = [t for area, paths in found.paths.items() if area != "core" for t in paths]
    for path, entry in entries.items():
        if "/" in path or path in found.why or any(t.startswith(path + "/") for t in others):
            continue
        if entry.kind == "folder" and held.get(path, _Held()).code and not in_dependencies(f"{path}/"):
            found.add("core", path, "code in it, and code beside it at the top")
            found.paths["core"] = [p for p in found.paths["core"] if not p.startswith(path + "/")]
    for path in top:
        found.add("core", path, "code at the top")


def _below(path: str, taken: Mapping[str, str]) -> bool:
    return any(path.startswith(t + "/") for t in taken)


def _held_by_folders(entries: Mapping[str, Entry]) -> dict[str, _Held]:
    held: dict[str, list[int]] = defaultdict(lambda: [0, 0, 0, 0, 0])
    for path, entry in entries.items():
        if entry.kind == "file":
            picture = bool(_PICTURES.search(path))
            counts = held[posixpath.dirname(path)]
            counts[0] += bool(_CODE.search(path))
            counts[1] += picture
            counts[2] += 1
            counts[3] = max(counts[3], entry.mtime_ns if picture else 0)
            counts[4] += bool(_PROGRAM.search(path))
    for folder in list(held):
        above = posixpath.dirname(folder)
        while above and above not in held:
            held[above] = [0, 0, 0, 0, 0]
            above = posixpath.dirname(above)
    # What a folder holds is its parent's, too: the deepest first.
    for folder in sorted(held, key=lambda f: -f.count("/")):
        if above := posixpath.dirname(folder):
            code, pictures, files, newest, _ = held[folder]
            counts = held[above]
            counts[0] += code
            counts[1] += pictures
            counts[2] += files
            counts[3] = max(counts[3], newest)
    return {k: _Held(*v) for k, v in held.items() if k}

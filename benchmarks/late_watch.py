"""The late watch: troubles of six kinds planted one by one after a cutover, and looks at a site where all is well,
four to each "week": what a week's schedule does is simulated in tests/test_watch.py; here no clock is moved.

python late_watch.py [weeks of nothing]"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from conftest import query
from keenharbor.demo.scene import Host, set_scene
from test_cutover import PLAN, Stage, describe
from test_watch import CHECKS, first_picture, lend, log, write_into

Plant = Callable[[Stage], object]


def answers(path: str, what: str) -> Plant:
    return lambda stage: write_into(stage, f'if request.path == "{path}":\n            {what}')


def rewritten(path: str, old: str, new: str) -> Plant:
    """A page that says it otherwise: what the site makes of it is changed on its way out."""
    say = f"plain.body = plain.body.replace({old.encode()!r}, {new.encode()!r})"
    return answers(path, f"site.before_answer.remove(trouble); plain = site.answer(request); {say}; "
                         "site.before_answer.append(trouble); return plain")  # fmt: skip


def removed(find: Callable[[Stage], Path]) -> Plant:
    return lambda stage: find(stage).unlink()


def changed(find: Callable[[Stage], Path], content: bytes) -> Plant:
    return lambda stage: find(stage).write_bytes(content)


PLANTED: dict[str, tuple[str, Plant, str]] = {
    "a page ends in an error": ("pages", answers("/calendar", "raise RuntimeError('no almanac')"), "page-fails"),
    "a page is blank": ("pages", rewritten("/about", "<body", "<template"), "emptied"),
    "a page is left out of search engines": (
        "pages", rewritten("/gallery", "</head>", '<meta name="robots" content="noindex"></head>'), "robots-changed",
    ),
    "a picture is cut": ("files", lambda s: first_picture(s.scene).write_bytes(b"\x89PNG\r\n"), "picture-broken"),
    "the theme's styles are away": ("files", removed(
        lambda s: s.scene.root / "themes/marrow/assets/theme.css"), "file-broken"),
    "a form is gone": ("forms", rewritten("/search", "<form", "<div"), "form-gone"),
    "a scripted visit fails": ("forms", rewritten("/loans", 'name="token"', 'name="ticket"'), "check-failed"),
    "a page takes half a second": ("times", answers("/notes", "time.sleep(0.5)"), "slower"),
    "a new kind of error": ("logs", lambda s: log(s.scene, "CRITICAL the queue of letters is stuck"), "log"),
    "a flood of a known error": (
        "logs", lambda s: log(s.scene, "error: the printer 3 is out of paper", 200), "log",
    ),
    "rows are lost": ("rows and code", lambda s: query(s.scene.database, "DELETE FROM members WHERE id % 3"),
        "rows-lost"),
    "code among the pictures": ("rows and code", changed(
        lambda s: s.scene.root / "media/leaf.php", b"<?php system('x');"), "code-in-uploads"),
    "the core is changed": ("rows and code", changed(
        lambda s: s.scene.root / "core/upkeep.py", b"# changed\n"), "code-changed-core"),
}  # fmt: skip


def main(weeks: int = 3) -> None:
    """Plant, look, put back."""
    with tempfile.TemporaryDirectory() as base:
        folder = Path(base)
        scene = set_scene(folder / "scene")
        describe(scene, CHECKS)
        with Host(scene):
            stage = Stage(scene, folder / "saved")
            stage.saved.mkdir()
            (scene.folder / "upgrade.toml").write_text(PLAN)
            log(scene, "error: the printer 3 is out of paper", 3)
            stage.run("trial", "run", "--json")
            stage.run("cutover", "--yes")
            stage.save()
            false = 0
            for week in range(weeks):
                stage.put_back()
                for look in ("1 h", "1 d", "3 d", "7 d"):
                    lend(scene, 4)
                    log(scene, "error: the printer 5 is out of paper", 2)
                    found = stage.run("watch", "--json", code=None).json["findings"]
                    false += len(found)
                    print(f"week {week + 1}, {look}: {len(found)} findings", *(f["text"] for f in found))
            told = 0
            for name, (kind, plant, wanted) in PLANTED.items():
                stage.put_back()
                plant(stage)
                began = time.monotonic()
                found = stage.run("watch", "--json", code=None).json["findings"]
                kinds = {f["kind"] for f in found}
                told += wanted in kinds
                verdict = "told" if wanted in kinds else "MISSED"
                print(f"{kind:14} {name:40} {verdict}  {time.monotonic() - began:4.1f} s  {sorted(kinds)}")
            print(f"{told} of {len(PLANTED)} told in the first look; {false} false in {4 * weeks} looks at nothing")


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))

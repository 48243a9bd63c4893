"""The demonstration's site as its keepers would have described it: what the benchmarks of trials stand on."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from keenharbor.demo.scene import Host, Scene, remove_scene, set_scene
from keenharbor.demo.story import SHELF_CHECKS

PROGRAM = str(Path(sys.executable).with_name("keenharbor"))
LOOK = """
[[check]]
name = "the admin logs in"
writes = true
steps = [
  { get = "/login" },
  { submit = "login", fields = { card = "ML-001", password = "cress-1" }, text = "Welcome" },
]

[look]
log_in = "the admin logs in"
"""


@contextmanager
def described_scene(engine: str, *, reload: bool = False) -> Iterator[Scene]:
    """The scene on this engine, described by `init`, with checks and a log-in (and with how its host takes up what
    changed), served until the block ends, then taken away."""
    with tempfile.TemporaryDirectory(prefix="harbor-scene-") as name, ExitStack() as ended:
        scene = set_scene(Path(name) / "scene", engine=engine)
        ended.callback(remove_scene, scene.folder)  # a private server has more than that folder
        launchers = [w for v in ("2", "3") for w in ("--launcher", f"{v}={scene.runtimes}/loam-{v}/bin/loam")]
        words = ["init", "site", "--platform", "tansy.toml", "--name", "marrow-lane", "--feed", "feed/feed.json"]
        if reload:
            words += ["--reload", f"{sys.executable} {scene.host_program} reload --control {scene.control}"]
        subprocess.run([PROGRAM, *words, *launchers], cwd=scene.folder, check=True, capture_output=True)
        with scene.site_file.open("a") as file:
            file.write(SHELF_CHECKS + LOOK)
        with Host(scene):
            yield scene

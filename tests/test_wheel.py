"""What is installed from a wheel: the program with its demo data, and the manual."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

from conftest import environment
from keenharbor.cli.manual import SCHEMAS, TOPICS

CHECKOUT = Path(__file__).resolve().parents[1]


@pytest.fixture(scope="module")
def installed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A wheel made of the checkout, unpacked as an installer does."""
    folder = tmp_path_factory.mktemp("wheel")
    subprocess.run(
        [sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(folder)], cwd=CHECKOUT, check=True,
        capture_output=True,
    )  # fmt: skip
    (wheel,) = folder.glob("*.whl")
    with zipfile.ZipFile(wheel) as archive:
        archive.extractall(folder / "packages")
    return folder / "packages"


def run(installed: Path, *words: str) -> str:
    program = [sys.executable, "-m", "keenharbor.cli.main", *words]
    return subprocess.run(
        program, cwd=installed.parent, env=environment(PYTHONPATH=str(installed)), check=True, capture_output=True,
        text=True,
    ).stdout  # fmt: skip


def test_a_wheel_holds_every_file_of_the_package(installed: Path) -> None:
    source = CHECKOUT / "src"
    listed = subprocess.run(["git", "ls-files", "keenharbor"], cwd=source, check=True, capture_output=True, text=True)
    lacking = [p for p in listed.stdout.split() if not (installed / p).is_file()]
    assert not lacking and (installed / "keenharbor/py.typed").is_file()
    (entry_points,) = installed.glob("*.dist-info/entry_points.txt")
    assert "keenharbor = keenharbor.cli.main:main" in entry_points.read_text()


def test_the_installed_program_reads_its_manual_and_sets_up_its_demo(installed: Path) -> None:
    where = subprocess.run(
        [sys.executable, "-c", "import keenharbor; print(keenharbor.__file__)"], cwd=installed.parent,
        env=os.environ | {"PYTHONPATH": str(installed)}, check=True, capture_output=True, text=True,
    ).stdout  # fmt: skip
    assert where.startswith(str(installed))
    pages = {p.name for p in installed.glob("*.data/data/share/man/man1/*.1")}
    assert {"keenharbor.1", "keenharbor-snapshot.1", "keenharbor-trial.1"} <= pages
    inside = {p.stem for p in (installed / "keenharbor/manual").rglob("*.*")}
    assert {*TOPICS, *SCHEMAS} <= inside
    for topic in ("guide", "steps", "plan.schema"):
        assert len(run(installed, "manual", topic)) > 300, topic
    made = (
        "from pathlib import Path\nfrom keenharbor.demo.scene import set_scene\nprint(set_scene(Path('scene')).root)\n"
    )
    root = subprocess.run(
        [sys.executable, "-c", made], cwd=installed.parent, env=environment(PYTHONPATH=str(installed)), check=True,
        capture_output=True, text=True,
    ).stdout.strip()  # fmt: skip
    told = run(installed, "init", root, "--platform", str(Path(root).parent / "tansy.toml"), "--yes", "--json")
    assert json.loads(told)["missing"] == []

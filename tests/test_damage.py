"""Every file under store and work folder, damaged in one way after the other: named by `verify`, or harmless; never
unexpected."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import harbor
from keenharbor.demo.scene import Host, Scene

HARMLESS = ("site.lock", "steps.lock", "staging.lock", "server.log", "mail.ini", "seal.spec", "feed-cache",
    "READ ME.txt", "/site/",
            "/programs/", "/tmp/", "/outbox/", "/root/", "clones/")  # fmt: skip
"""Locks, what a clone consists of, and what is made anew: nothing is decided by it. (A clone's own facts are: see
below.)"""
NOT_MISSED = ("/index/", "decisions.json", "last-change.json", "/surveys/")
"""What is made anew, asked again, or known from elsewhere when it is not there; damaged, it is named."""


def flipped(file: Path, others: list[Path]) -> None:
    data = bytearray(file.read_bytes() or b"x")
    data[len(data) // 2] ^= 4
    file.write_bytes(data)


def cut(file: Path, others: list[Path]) -> None:
    file.write_bytes(file.read_bytes()[: max(0, file.stat().st_size // 2 - 3)])


def zeroed(file: Path, others: list[Path]) -> None:
    file.write_bytes(bytes(file.stat().st_size))


def deleted(file: Path, others: list[Path]) -> None:
    file.unlink()


def swapped(file: Path, others: list[Path]) -> None:
    other = next(
        (o for o in others if o != file and o.suffix == file.suffix and o.read_bytes() != file.read_bytes()), None
    )
    if other is None:
        deleted(file, others)
        return
    one, two = file.read_bytes(), other.read_bytes()
    file.write_bytes(two)
    other.write_bytes(one)


def a_folder(file: Path, others: list[Path]) -> None:
    file.unlink()
    file.mkdir()


DAMAGES: tuple[Callable[[Path, list[Path]], None], ...] = (flipped, cut, zeroed, deleted, swapped, a_folder)
LOOKS = (("snapshot", "list"), ("log",), ("trial", "show"), ("clone", "list"), ("survey", "--against", "newest"))


@pytest.fixture(scope="module")
def worn(tmp_path_factory: pytest.TempPathFactory) -> tuple[Scene, Path]:
    """A site with snapshots, a proof, two trials, a kept clone, a kept survey and decisions; and a copy of all of
    it."""
    from conftest import describe
    from keenharbor.demo.scene import set_scene

    scene = set_scene(tmp_path_factory.mktemp("damage") / "scene")
    describe(scene, "\n[look]\nlimit = 2\n")
    plan = (
        'format = 1\n[plan]\nsite = "marrow-lane"\ncore = "3.4"\nruntime = "2"\n[[step]]\nname = "a"\nkind = '
        '"purge-cache"\n'
    )
    (scene.folder / "upgrade.toml").write_text(plan)
    with Host(scene):
        for label in ("one", "two"):
            harbor(scene.folder, "snapshot", "take", "--label", label)
            (scene.root / f"media/{label}.txt").write_text(label * 40)
        harbor(scene.folder, "trial", "run")
        harbor(scene.folder, "trial", "run")
        harbor(scene.folder, "survey", "--save", code=None)
        harbor(scene.folder, "ready", "--core", "4.0", "--extension", "gallery-wall=remove", code=None)
        harbor(scene.folder, "snapshot", "restore", "two", "--live", "--yes")
    harbor(scene.folder, "snapshot", "verify")
    saved = scene.folder.parent / "saved"
    shutil.copytree(scene.folder / "harbor", saved, symlinks=True)
    return scene, saved


def test_every_damaged_file_is_named_or_harmless(worn: tuple[Scene, Path]) -> None:
    scene, saved = worn
    work = scene.folder / "harbor"
    files = sorted(p.relative_to(work) for p in work.rglob("*") if p.is_file() and not p.is_symlink())
    assert len(files) > 40
    wrong, tried = [], 0
    for number, name in enumerate(files):
        for turn in range(2 if number % 3 == 0 else 1):  # each with one damage, every third with another
            damage = DAMAGES[(number + turn * 3) % len(DAMAGES)]
            shutil.rmtree(work)
            shutil.copytree(saved, work, symlinks=True)
            damage(work / name, [work / other for other in files if other.parent.name == name.parent.name])
            tried += 1
            gone = not (work / name).exists() and any(part in f"/{name}" for part in NOT_MISSED)
            told = harbor(scene.folder, "snapshot", "verify", code=None, COLUMNS="300")
            looks = [harbor(scene.folder, *words, code=None) for words in LOOKS[number % 2 :: 2]]
            said = "".join(r.out + r.err for r in (told, *looks))
            if "unexpected" in said or "Traceback" in said:
                wrong.append(f"{damage.__name__} {name}: unexpected: {said[said.index('unexpected') :][:160]}")
            is_harmless = any(part in f"/{name}" for part in HARMLESS) and name.name != "clone.json"
            made_anew = "made anew" in said or "written anew" in said
            if told.code == 0 and not is_harmless and not made_anew and not gone:
                wrong.append(f"{damage.__name__} {name}: nobody noticed")
    assert not wrong, f"{len(wrong)} of {tried}:\n" + "\n".join(wrong[:12])


def test_one_damaged_snapshot_is_named_and_hurts_no_other_command(worn: tuple[Scene, Path]) -> None:
    scene, saved = worn
    work = scene.folder / "harbor"
    shutil.rmtree(work)
    shutil.copytree(saved, work, symlinks=True)
    first = sorted((work / "store/snapshots").iterdir())[0]
    first.write_bytes(first.read_bytes()[:50])
    listed = harbor(scene.folder, "snapshot", "list", code=None)
    assert first.stem in listed.err and first.stem not in listed.out
    assert first.stem in harbor(scene.folder, "snapshot", "list", "--json").err
    for words in (
        ("snapshot", "usage"),
        ("snapshot", "show", "newest"),
        ("snapshot", "take"),
        ("trial", "show"),
        ("survey",),
    ):
        harbor(scene.folder, *words, code=None if words == ("survey",) else 0)
    refused = harbor(scene.folder, "snapshot", "thin", "--newest", "5", "--preview", code=1)
    assert f"thin --give-up {first.stem}" in " ".join(refused.err.split())
    sound = next(p.stem for p in (work / "store/snapshots").iterdir() if p != first)
    harbor(scene.folder, "snapshot", "thin", "--give-up", sound, "--yes", code=2)
    told = harbor(scene.folder, "snapshot", "thin", "--newest", "9", "--give-up", first.stem, "--yes", "--json").json
    assert told["given_up"] == [first.stem] and not first.exists()
    harbor(scene.folder, "snapshot", "verify")

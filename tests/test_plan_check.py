"""`plan check`: a plan held against a site."""

from __future__ import annotations

import shutil
from pathlib import Path

from conftest import harbor
from keenharbor.demo.scene import Scene

DRAFT = ("plan", "draft", "--core", "4.0", "--runtime", "3", "--extension", "gallery-wall=replace-by:picture-rail")


def checks(scene: Scene, code: int | None = 1) -> dict[str, str]:
    told = harbor(scene.folder, "plan", "check", "--json", code=code).json
    return {c["subject"]: f"{c['verdict']}: {c['reason']}" for c in told["checks"]}


def change(scene: Scene, old: str, new: str) -> None:
    file = scene.folder / "upgrade.toml"
    text = file.read_text()
    assert old in text
    file.write_text(text.replace(old, new, 1))


def test_a_drafted_plan_fits_but_for_what_a_person_decides(scene: Scene) -> None:
    harbor(scene.folder, *DRAFT)
    found = checks(scene)
    assert all(v.startswith("caution") for v in found.values())
    assert "would wipe 1 local edit" in found["step update-events-calendar"]


def test_what_does_not_fit_is_named_with_what_to_do(scene: Scene) -> None:
    harbor(scene.folder, *DRAFT)
    change(scene, 'package = "tansy-core"\nversion = "4.0"', 'package = "tansy-core"\nversion = "9.9"')
    assert "the feed has no tansy-core 9.9" in checks(scene)["step core"]
    change(scene, 'version = "9.9"', 'version = "4.0"')
    change(scene, 'kind = "runtime"\nversion = "3"', 'kind = "runtime"\nversion = "7"')
    found = checks(scene)
    assert "loam 7 is not installed here" in found["step runtime"]
    assert "lead to runtime 7" in found["target"]
    change(scene, 'kind = "runtime"\nversion = "7"', 'kind = "runtime"\nversion = "3"')
    with (scene.folder / "upgrade.toml").open("a") as file:
        file.write('\n[[step]]\nname = "gone"\nkind = "extension"\nextension = "gallery-wall"\non = false\n')
        file.write('\n[[step]]\nname = "nothing"\nkind = "remove"\npaths = ["no/such/*.php"]\n')
        file.write('\n[[step]]\nname = "key"\nkind = "setting"\nfile = "site.nothing"\nvalue = "x"\n')
    found = checks(scene)
    assert "no 'gallery-wall' at that point" in found["step gone"]
    assert "no path fits no/such/*.php" in found["step nothing"]
    assert "no 'site.nothing'" in found["step key"]
    out = harbor(scene.folder, "plan", "check", code=1).out
    assert "BLOCKED" in out and "correct upgrade.toml, then: keenharbor plan check" in " ".join(out.split())


def test_an_extension_that_nobody_moves_is_told_at_the_end(scene: Scene) -> None:
    harbor(scene.folder, *DRAFT)
    text = (scene.folder / "upgrade.toml").read_text()
    steps = text.split("[[step]]")
    (scene.folder / "upgrade.toml").write_text("[[step]]".join(s for s in steps if 'package = "loan-desk"' not in s))
    assert "wants core >=3.0,<4.0" in checks(scene)["at the end: loan-desk"]


def test_a_plan_is_held_against_a_sibling(scene: Scene, tmp_path: Path) -> None:
    harbor(scene.folder, *DRAFT)
    shutil.copytree(scene.root, tmp_path / "sibling")
    shutil.rmtree(tmp_path / "sibling/extensions/gallery-wall")
    text = (
        scene.site_file.read_text()
        .replace('root = "site"', f'root = "{tmp_path}/sibling"')
        .replace('name = "marrow-lane"', 'name = "sibling"')
    )
    (scene.folder / "sibling.toml").write_text(text)
    told = harbor(scene.folder, "plan", "check", "--site", "sibling.toml", "--json", code=1).json
    found = {c["subject"]: c["reason"] for c in told["checks"]}
    assert "drafted for the site 'marrow-lane'" in found["plan"]
    assert "no 'gallery-wall' to replace" in found["step replace-gallery-wall"]

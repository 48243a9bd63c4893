"""Pictures of pages: what differs is boxed, what moved is not, what nobody sees is nothing; and a browser's part in a
trial."""

from __future__ import annotations

import io
import os
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from conftest import Pages, describe, harbor
from keenharbor.compare.camera import WIDTHS, Camera, missing_browser
from keenharbor.compare.pictures import Region, cut_out, decode, different_regions, without
from keenharbor.demo.scene import Host, Scene, set_scene

needs_browser = pytest.mark.skipif(
    bool(missing_browser()) and os.environ.get("CI") != "true", reason=missing_browser() or "a browser is there"
)


def page(height: int = 900, width: int = 320, seed: int = 1) -> Any:
    """White, with lines of something like text."""
    made = np.full((height, width, 3), 255, np.uint8)
    noise = np.random.default_rng(seed)
    for top in range(20, height - 30, 24):
        made[top : top + 12, 20 : width - 20] = noise.integers(0, 200, (12, width - 40, 1), dtype=np.uint8)
    return made


def test_the_same_page_has_no_region() -> None:
    assert different_regions(page(), page()) == []


def test_a_block_that_changed_is_boxed_where_it_stands() -> None:
    after = page()
    after[200:230, 50:120] = (200, 30, 60)
    (found,) = different_regions(page(), after)
    assert (found.left, found.top, found.width, found.height, found.before) == (50, 200, 70, 30, 200)


@given(st.integers(30, 800), st.integers(1, 120))
@settings(max_examples=40, deadline=None)
def test_a_line_that_came_in_marks_itself_and_not_the_page(at: int, height: int) -> None:
    before = page()
    added = np.full((height, 320, 3), 90, np.uint8)
    after = np.insert(before, at, added, axis=0)
    found = different_regions(before, after)
    assert all(at - 14 <= r.top and r.top + r.height <= at + height + 14 for r in found)
    assert sum(r.height for r in found) >= height
    back = different_regions(after, before)
    assert all(at - 14 <= r.before and r.before + r.high_before <= at + height + 14 for r in back)


@given(st.integers(0, 3), st.tuples(*[st.integers(0, 255)] * 3))
@settings(max_examples=40, deadline=None)
def test_what_no_eye_sees_is_nothing(shift: int, colour: tuple[int, int, int]) -> None:
    before = page()
    before[100:150, 40:200] = colour
    after = before.copy()
    after[100:150, 40:200] = [min(255, c + shift) for c in colour]
    assert different_regions(before, after) == []
    dots = before.copy()
    dots[300, 60:64] = (255, 0, 0)
    assert different_regions(before, dots) == [], "a few pixels are nothing"


def test_more_empty_space_is_nothing_and_another_width_is_everything() -> None:
    before = page()
    after = np.concatenate([before, np.full((200, 320, 3), 255, np.uint8)])
    assert different_regions(before, after) == []
    (whole,) = different_regions(before, page(width=300))
    assert (whole.width, whole.height) == (300, 900)


def test_regions_within_noisy_boxes_are_left_out() -> None:
    region = Region(10, 110, 20, 20, 400, 100)
    assert without([region], [(0, 95, 15, 10)]) == []
    assert without([region], [(0, 115 + 10, 15, 10), (40, 100, 5, 5)]) == [region]


def test_a_region_is_cut_out_for_people() -> None:
    out = io.BytesIO()
    Image.fromarray(page(1200, 1280)).save(out, "PNG")
    cut = decode(cut_out(out.getvalue(), Region(100, 300, 200, 80, 9, 250), before=False))
    assert 100 < cut.shape[0] < 300 and 600 < cut.shape[1] <= 900
    far = decode(cut_out(out.getvalue(), Region(0, 5000, 1280, 1, 9, 250), before=False))
    assert far.size > 0
    with pytest.raises(ValueError, match="cannot be read"):
        decode(b"nothing")


@needs_browser
def test_a_browser_shows_pages_and_what_it_complains_of(pages: Pages) -> None:
    pages.content |= {
        "/": "<title>T</title><h1 id='top'>Seeds</h1><p id='far' "
        "style='margin-top:2000px'>far</p><script>nothing.at.all()</script>"
        "<img src='/gone.png'><img src='http://elsewhere.example.test/x.png'>",
        "/moving": "<style>@keyframes m { to { margin-left: 300px } } #m { animation: m 1s infinite }</style><p "
        "id='m'>moves</p>",
    }
    with Camera() as camera:
        shots = {(s.path, s.width): s for s in camera.shoot(pages.address, ["/", "/moving", "/gone"])}
        again = {(s.path, s.width): s for s in camera.shoot(pages.address, ["/", "/moving"])}
    assert len(shots) == 3 * len(WIDTHS)
    desk = shots["/", WIDTHS[0]]
    assert decode(desk.png).shape[1] == WIDTHS[0] and decode(desk.png).shape[0] > 2000
    assert desk.boxes["#far"][1] > 2000
    assert "nothing is not defined" in desk.errors[0]
    assert set(desk.failed) == {"/gone.png: status 404", "elsewhere.example.test is asked for"}
    assert "/gone: status 404" in shots["/gone", WIDTHS[1]].failed
    for key in again:
        assert different_regions(decode(shots[key].png), decode(again[key].png)) == []
    with Camera() as camera:
        known: list[str] = []
        pages.content["/shelf"] = lambda m, p, headers, b: known.append(headers["Cookie"]) or "<p>mine</p>"
        (member,) = camera.shoot(pages.address, ["/shelf"], (400,), {"session": "bean"})
        assert member.png and known == ["session=bean"]
        (dead,) = camera.shoot("http://127.0.0.1:9", ["/"], (400,))
    assert dead.png == b"" and dead.errors


@pytest.fixture(scope="module")
def stage(tmp_path_factory: pytest.TempPathFactory) -> Any:
    scene = set_scene(tmp_path_factory.mktemp("pictures") / "scene")
    describe(scene, '\n[look]\nstarts = ["/about", "/gallery"]\nlimit = 2\n')
    with Host(scene):
        yield scene


def trial(scene: Scene, *steps: str, code: int = 1) -> dict[str, Any]:
    head = 'format = 1\n[plan]\nsite = "marrow-lane"\ncore = "3.4"\nruntime = "2"\n'
    (scene.folder / "upgrade.toml").write_text(head + "".join(f"[[step]]\n{s}\n" for s in steps))
    told = harbor(scene.folder, "trial", "run", "--pictures", "--json", code=code).json
    assert isinstance(told, dict)
    return told


STYLE = (
    'kind = "command"\nexpects = ["themes/*"]\ncommand = ["sh", "-c", "echo \'#wall {{ {} }}\' >> '
    'themes/marrow/assets/theme.css"]'
)


@needs_browser
def test_a_trial_sees_what_only_eyes_see_and_lays_it_to_its_step(stage: Scene) -> None:
    still = trial(stage, 'name = "nothing"\nkind = "command"\ncommand = ["true"]', code=0)
    assert still["findings"] == [] and not any("pictures" in r for r in still["remarks"])
    told = trial(
        stage, 'name = "before"\nkind = "command"\ncommand = ["true"]',
        f'name = "restyle"\n{STYLE.format("background: #c22")}',
        'name = "after"\nkind = "command"\ncommand = ["true"]',
    )  # fmt: skip
    looks = [f for f in told["findings"] if f["kind"] == "looks-different"]
    assert (
        looks and {f["step"] for f in looks} == {"restyle"} and {p for f in looks for p in f["pages"]} == {"/gallery"}
    )
    folder = Path(told["report"]).parent
    for name in looks[0]["evidence"]:
        assert decode((folder / name).read_bytes()).size > 0
    report = Path(told["report"]).read_text()
    assert report.count("data:image/webp;base64,") >= 2 and "looked at, at two widths" in report
    # Gone on with, the pictures come along.
    text = (stage.folder / "upgrade.toml").read_text()
    (stage.folder / "upgrade.toml").write_text(text.replace('name = "after"', 'name = "last"'))
    again = harbor(stage.folder, "trial", "resume", "--json", code=1).json
    assert {(f["kind"], f["step"]) for f in again["findings"]} == {(f["kind"], f["step"]) for f in told["findings"]}


def test_without_a_browser_it_says_that_nobody_looked(stage: Scene, tmp_path: Path) -> None:
    (stage.folder / "upgrade.toml").write_text(
        'format = 1\n[plan]\nsite = "marrow-lane"\ncore = "3.4"\nruntime = "2"\n[[step]]\nname = "a"\nkind = '
        '"command"\ncommand = ["true"]\n'
    )
    told = harbor(stage.folder, "trial", "run", "--json").json
    assert "pictures: not looked at (--pictures takes them)" in told["remarks"]
    assert "not looked at" in Path(told["report"]).read_text()
    (tmp_path / "env").mkdir()
    refused = harbor(stage.folder, "trial", "run", "--pictures", code=2, PATH=str(tmp_path / "env"))
    assert "no pictures can be taken" in refused.err and "--no-pictures" in refused.err

"""What a deployment installs, brought in line with what is installed."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from packaging.requirements import Requirement

from keenharbor.base.errors import KeenHarborError
from keenharbor.site.pins import Pinning, pin_files, with_pins

INSTALLED = {"press": "2.0", "frame": "3.2.1", "press-gallery": "1.2"}


def changed(
    text: str, path: str = "requirements.txt", adds: tuple[str, ...] = (), removed: tuple[str, ...] = ()
) -> str:
    return with_pins(path, text, Pinning(INSTALLED, removed, {"python_version": "3.11"}), adds)


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ("press==1.0\n", "press==2.0\n"),
        ("press == 1.0  # with care\r\n", "press ==2.0  # with care\r\n"),
        ("Press_Gallery[x]<1.1; python_version >= '3.9'\n", "Press_Gallery[x]==1.2; python_version >= '3.9'\n"),
        ("press (<2)\n", "press ==2.0\n"),
        ("press==1.0; python_version < '3.9'\npress==1.5; python_version >= '3.9'\n",
         "press==1.0; python_version < '3.9'\npress==2.0; python_version >= '3.9'\n"),
        ("# press==1.0\n-r base.txt\n--index-url https://example.test/press==1.0\npress==1.0",
         "# press==1.0\n-r base.txt\n--index-url https://example.test/press==1.0\npress==2.0"),
        ("press>=1\nframe~=3.2\n", "press>=1\nframe~=3.2\n"),
        ("press @ https://example.test/press-1.0.whl\nother==9\n",
         "press @ https://example.test/press-1.0.whl\nother==9\n"),
    ],
)  # fmt: skip
def test_a_wish_that_would_undo_the_upgrade_becomes_the_installed_version(before: str, after: str) -> None:
    assert changed(before) == after
    assert changed(after) == after


def test_names_are_taken_out_and_come_in() -> None:
    assert changed("frame==1 # f\npress==1", adds=("press-gallery", "frame"), removed=("press",)) == (
        "frame==3.2.1 # f\npress-gallery==1.2\n"
    )


def test_a_project_keeps_all_else_of_its_text() -> None:
    text = (
        '[project]   # ours\ndependencies = [\n  "press==1.0", # the core\n  "frame<3",\n  "gone==1",\n]\n'
        'optional-dependencies = { more = ["press<2"] }\n[dependency-groups]\ndev = ["frame==1", {include-group = '
        '"x"}]\n'
    )
    made = changed(text, "pyproject.toml", adds=("press-gallery",), removed=("gone",))
    assert "[project]   # ours" in made and '"press==2.0", # the core' in made and "gone" not in made
    assert 'more = ["press==2.0"]' in made and '"frame==3.2.1", {include-group' in made
    assert made.count("frame==3.2.1") == 2 and '"press-gallery==1.2"' in made


def test_what_cannot_be_changed_is_said() -> None:
    with pytest.raises(KeenHarborError, match="hashes"):
        changed("press==1.0 \\\n    --hash=sha256:0123\n")
    with pytest.raises(KeenHarborError, match="no TOML"):
        changed("[project", "pyproject.toml")


def test_files_are_found_near_the_top_alone() -> None:
    found = pin_files(
        ["requirements.txt", "dev-requirements.txt", "requirements/live.txt", "pyproject.toml", "poetry.lock",
         "vendor/x/requirements.txt", "readme.txt", "media/pyproject.toml"]
    )  # fmt: skip
    assert found.ours == ("dev-requirements.txt", "pyproject.toml", "requirements.txt", "requirements/live.txt")
    assert found.locks == ("poetry.lock",)


NAMES = st.sampled_from(["press", "Frame", "press.gallery", "other"])
SPECS = st.sampled_from(["", "==1.0", ">=1", "<2", "~=3.2", "!=2.0", "==2.*", "<4,>=3"])
ENDS = st.sampled_from(["", "  # why", "; python_version > '3'", "; python_version < '3' # old"])
LINES = st.one_of(
    st.builds("{}{}{}".format, NAMES, SPECS, ENDS),
    st.sampled_from(["", "# a comment", "-c other.txt", "git+https://example.test/x", "   ", "\tfree text here"]),
)


@given(st.lists(LINES, min_size=1, max_size=8), st.sampled_from(["\n", "\r\n"]))
def test_every_wish_allows_what_is_installed_and_other_lines_stay(lines: list[str], end: str) -> None:
    made = changed(end.join(lines)).split(end)
    assert len(made) == len(lines)
    for before, after in zip(lines, made, strict=True):
        if before != after:
            asked, had = (Requirement(t.partition(" #")[0]) for t in (after, before))
            name = asked.name.lower().replace(".", "-")
            assert asked.specifier.contains(INSTALLED[name]) and not had.specifier.contains(INSTALLED[name])
            assert (asked.name, str(asked.marker)) == (had.name, str(had.marker))
            assert after.partition(" #")[2] == before.partition(" #")[2]

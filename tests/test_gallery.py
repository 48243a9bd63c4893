"""Pictures of a trial without a browser: which pages are taken anew, what is told, what is left to the markup's own
findings."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

from keenharbor.compare import Finding, Look, Noise, Weight
from keenharbor.compare.camera import Shot
from keenharbor.compare.look import LOGGED_IN, FileSeen, PageSeen
from keenharbor.compare.markup import Block, Markup
from keenharbor.trial.gallery import Gallery, Shots

BOXES = {"#a": (0.0, 0.0, 400.0, 100.0), "#b": (0.0, 100.0, 400.0, 100.0), "#clock": (0.0, 200.0, 400.0, 50.0)}


class Painter:
    """Stands for a browser: paints each block of a page in a colour, and notes what it was asked for."""

    def __init__(self) -> None:
        self.colours: dict[str, dict[str, int]] = {}
        self.asked: list[str] = []
        self.errors: tuple[str, ...] = ()
        self.failed: tuple[str, ...] = ()

    def shoot(
        self,
        address: str,
        paths: Sequence[str],
        widths: Sequence[int] = (400,),
        cookies: Mapping[str, str] | None = None,
    ) -> list[Shot]:
        self.asked += [f"{p} as {cookies['session']}" if cookies else p for p in paths]
        shots = []
        for path in paths:
            picture = np.full((300, 400, 3), 255, np.uint8)
            for name, colour in self.colours.get(path, {}).items():
                x, y, w, h = map(int, BOXES[name])
                picture[y + 10 : y + h - 10, x + 10 : x + w - 10] = colour
            out = io.BytesIO()
            Image.fromarray(picture).save(out, "PNG")
            shots.append(Shot(path, 400, out.getvalue(), BOXES, self.errors, self.failed))
        return shots


def page(path: str, **texts: str) -> PageSeen:
    return PageSeen(path, 200, markup=Markup(blocks={f"#{n}": Block([t]) for n, t in texts.items()}))


def look(*pages: PageSeen, **files: str) -> Look:
    return Look("http://h", {p.path: p for p in pages}, files={f: FileSeen(d, False) for f, d in files.items()})


@pytest.fixture
def painter() -> Painter:
    return Painter()


@pytest.fixture
def gallery(tmp_path: Path, painter: Painter) -> Gallery:
    return Gallery(tmp_path, painter)  # type: ignore[arg-type]


def nobody() -> dict[str, str]:
    return {}


NOISE = Noise(everywhere=frozenset({"#clock"}))
FIRST = (page("/x", a="A", b="B", clock="1"), page("/y", a="A", b="B", clock="1"))


def begin(gallery: Gallery, painter: Painter) -> tuple[Shots, Look]:
    painter.colours = {p: {"#a": 10, "#b": 60, "#clock": 90} for p in ("/x", "/y")}
    before = gallery.before("http://h", look(*FIRST), nobody)
    painter.asked.clear()
    return before, look(*FIRST)


def test_only_pages_that_may_look_different_are_taken_anew(gallery: Gallery, painter: Painter) -> None:
    before, first = begin(gallery, painter)
    same = look(page("/x", a="A", b="B", clock="2"), page("/y", a="A", b="B", clock="2"))
    assert gallery.after("http://h", before.shots, (first, same), NOISE, nobody) == before.shots and painter.asked == []
    other = look(page("/x", a="other", b="B", clock="2"), FIRST[1])
    gallery.after("http://h", before.shots, (same, other), NOISE, nobody)
    assert painter.asked == ["/x"]
    painter.asked.clear()
    gallery.after("http://h", before.shots, (first, look(*FIRST, style="new")), NOISE, nobody)
    assert painter.asked == ["/x", "/y"]
    gone = look(FIRST[0], PageSeen("/y", 500))
    assert {s.path for s in gallery.after("http://h", before.shots, (first, gone), NOISE, nobody).values()} == {"/x"}


def test_what_only_a_member_sees_is_taken_as_a_member(gallery: Gallery, painter: Painter) -> None:
    shelf = f"/shelf{LOGGED_IN}"
    sent_away = PageSeen("/shelf", 302, redirect="/login")
    members = (page(f"/x{LOGGED_IN}", a="A"), page(shelf, a="mine"))
    first = look(*FIRST, sent_away)
    first.pages |= {p.path: p for p in members}
    painter.colours = {"/shelf": {"#a": 10}}
    before = gallery.before("http://h", first, lambda: {"session": "one"})
    # What anybody sees is not taken again as a member sees it.
    assert painter.asked == ["/x", "/y", "/shelf as one"] * 2
    painter.asked.clear()
    painter.colours = {"/shelf": {"#a": 200}}
    now = look(*FIRST, sent_away, style="new")
    now.pages |= first.pages
    shots = gallery.after("http://h", before.shots, (first, now), NOISE, lambda: {"session": "two"})
    assert "/shelf as two" in painter.asked
    found = gallery.differences(before, shots, (first, now), NOISE)
    assert ("looks-different", "#a", shelf) in [(o.kind, o.place, o.page) for o in found]
    # Nobody can log in any more: other findings say so.
    assert (
        gallery.after("http://h", before.shots, (first, now), NOISE, nobody)[f"400 {shelf}"]
        is before.shots[f"400 {shelf}"]
    )


def told(gallery: Gallery, before: Shots, first: Look, now: Look) -> list[tuple[str, str, str]]:
    shots = gallery.after("http://h", before.shots, (first, now), NOISE, nobody)
    return [(o.kind, o.place, o.page) for o in gallery.differences(before, shots, (first, now), NOISE)]


def test_what_looks_different_is_told_once_and_noise_is_not(gallery: Gallery, painter: Painter) -> None:
    before, first = begin(gallery, painter)
    painter.colours["/x"] = {"#a": 200, "#b": 60, "#clock": 250}
    now = look(*FIRST, style="new")
    assert told(gallery, before, first, now) == [("looks-different", "#a", "/x")]
    # The same block says something else: its own finding tells of it.
    spoken = look(page("/x", a="other", b="B", clock="1"), FIRST[1], style="new")
    assert told(gallery, before, first, spoken) == []


def test_the_browsers_complaints_count_when_they_are_new(gallery: Gallery, painter: Painter) -> None:
    painter.errors, painter.failed = ("old error",), ("/old.js: status 404",)
    before, first = begin(gallery, painter)
    painter.errors, painter.failed = ("old error", "x is not defined"), ("/old.js: status 404", "/new.js: status 404")
    painter.colours["/x"] = {"#a": 11, "#b": 60, "#clock": 90}
    found = told(gallery, before, first, look(*FIRST, style="new"))
    assert {(k, p) for k, p, _ in found} == {
        ("console-error", "x is not defined"),
        ("request-failed", "/new.js: status 404"),
    }


def test_a_finding_is_shown_where_it_is(gallery: Gallery, painter: Painter, tmp_path: Path) -> None:
    before, first = begin(gallery, painter)
    painter.colours["/x"] = {"#a": 10, "#b": 250, "#clock": 90}
    now = look(page("/x", a="A", b="other", clock="1"), FIRST[1])
    shots = gallery.after("http://h", before.shots, (first, now), NOISE, nobody)

    def shown(**facts: Any) -> Finding:
        made = Finding(
            "f",
            facts.pop("kind", "text-changed"),
            facts.pop("place", "#b"),
            Weight.DOUBT,
            "t",
            facts.pop("pages", ("/x",)),
        )
        return gallery.show(made, before, shots, NOISE)

    evidence = shown().evidence
    assert evidence == ("pictures/f-before.webp", "pictures/f-after.webp")
    left, right = (np.asarray(Image.open(tmp_path / name).convert("L"), dtype=int) for name in evidence)
    assert abs(int(np.median(left)) - int(np.median(right))) > 50
    assert shown(place="page cache", kind="stale-cache").evidence == ()
    assert shown(pages=("/nowhere",)).evidence == ()
    assert shown(place="#gone").evidence == ()

"""Rewriting addresses and paths: lengths, escapes and nesting stay right; nothing is rewritten that only looks
alike."""

from __future__ import annotations

import base64
import contextlib
import gzip
import json
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import query
from keenharbor.database import DatabasePlace, open_database, serialised
from keenharbor.database.cells import cell_value, flat, with_part
from keenharbor.database.rewrite import HostMove, Rewriter, places_left, rewrite_database

LIVE, CLONE = "http://127.0.0.1:8642", "http://127.0.0.1:50123"
PLACES = {
    LIVE: CLONE,
    "127.0.0.1:8642": "127.0.0.1:50123",
    "/srv/site": "/var/clones/x/site",
    "/srv/data/live.db": "/var/clones/x.db",
}
NAMED = {"https://seeds.example": CLONE, "seeds.example": "127.0.0.1:50123"}


def php(value: Any) -> str:
    return serialised.write(serialised.from_plain(value))


@pytest.mark.parametrize(
    ("before", "after"),
    [
        (f"see {LIVE}/about.", f"see {CLONE}/about."),
        (f'<a href="{LIVE}">', f'<a href="{CLONE}">'),
        ("//127.0.0.1:8642/x", "//127.0.0.1:50123/x"),
        ("http://127.0.0.1:86421/", "http://127.0.0.1:86421/"),
        ("/srv/site/media/a.png", "/var/clones/x/site/media/a.png"),
        ("/srv/site", "/var/clones/x/site"),
        ("/srv/site2/media", "/srv/site2/media"),
        ("/srv/site-old/media", "/srv/site-old/media"),
        ("/srv/site.old/media", "/srv/site.old/media"),
        ("path=/srv/data/live.db", "path=/var/clones/x.db"),
        (r"http:\/\/127.0.0.1:8642\/x", r"http:\/\/127.0.0.1:50123\/x"),
        ("http%3A%2F%2F127.0.0.1%3A8642%2Fx", "http%3A%2F%2F127.0.0.1%3A50123%2Fx"),
        ("nothing of it", "nothing of it"),
    ],
)
def test_plain_forms(before: str, after: str) -> None:
    assert Rewriter(PLACES).text(before) == after


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ("https://seeds.example/x", f"{CLONE}/x"),
        ("host=seeds.example", "host=127.0.0.1:50123"),
        ("write to desk@seeds.example", "write to desk@seeds.example"),
        ("https://shop.seeds.example/", "https://shop.seeds.example/"),
        ("https://seeds.example.org/", "https://seeds.example.org/"),
        ("https://seeds.example:8443/", "https://seeds.example:8443/"),
        ("visit seeds.example.", "visit 127.0.0.1:50123."),
    ],
)
def test_names_of_hosts(before: str, after: str) -> None:
    assert Rewriter(NAMED).text(before) == after


def test_lengths_are_made_anew_at_every_depth() -> None:
    inner = php({"home": LIVE + "/é", "deep": json.dumps({"u": LIVE}).replace("/", "\\/")})
    outer = php({"a": inner, LIVE: [LIVE, 1, None, True]})
    whole = json.dumps({"cell": outer})
    done = json.loads(Rewriter(PLACES).text(whole))["cell"]
    value = cell_value(done)
    assert value[CLONE] == {"0": CLONE, "1": 1, "2": None, "3": True}
    assert cell_value(value["a"])["home"] == CLONE + "/é"
    assert json.loads(cell_value(value["a"])["deep"]) == {"u": CLONE}
    assert LIVE not in done


def test_objects_keep_their_shape() -> None:
    text = f'O:3:"Box":1:{{s:3:"url";s:{len(LIVE)}:"{LIVE}";}}'
    assert Rewriter(PLACES).text(text) == f'O:3:"Box":1:{{s:3:"url";s:{len(CLONE)}:"{CLONE}";}}'


def test_json_keeps_its_form() -> None:
    text = '{ "a":"' + LIVE.replace("/", "\\/") + '",\n  "b": "caf\\u00e9", "n": 1.50 }'
    assert Rewriter(PLACES).text(text) == text.replace("8642", "50123")


def _lines(data: bytes) -> str:
    return "\r\n".join(data[at : at + 76].decode() for at in range(0, len(data), 76))


def _bare_deflate(data: bytes) -> bytes:
    packer = zlib.compressobj(wbits=-15)
    return packer.compress(data) + packer.flush()


PACKERS: dict[str, Callable[[str], str]] = {
    "letters": lambda t: base64.b64encode(t.encode()).decode(),
    "letters of the web without padding": lambda t: (
        base64.urlsafe_b64encode(zlib.compress(t.encode())).decode().rstrip("=")
    ),
    "zlib": lambda t: base64.b64encode(zlib.compress(t.encode(), 9)).decode(),
    "gzip": lambda t: base64.b64encode(gzip.compress(t.encode())).decode(),
    "bare deflate": lambda t: base64.b64encode(_bare_deflate(t.encode())).decode(),
    "in lines": lambda t: _lines(base64.b64encode(t.encode() + b" " * 90)),
}


def opened(text: str) -> str:
    """What lies within all layers, by the plain libraries."""
    letters = "".join(text.split())
    raw = base64.b64decode(letters + "=" * (-len(letters) % 4), b"-_" if set("-_") & set(letters) else None)
    for bits in (47, -15):
        with contextlib.suppress(zlib.error):
            return zlib.decompress(raw, bits).decode()
    return raw.decode().rstrip()


@pytest.mark.parametrize("packer", PACKERS)
@pytest.mark.parametrize("within", ["serialised", "json", "itself", "a file of code", "no page of it"])
def test_packed_values_are_rewritten_through_their_layers(packer: str, within: str) -> None:
    pack, rewriter = PACKERS[packer], Rewriter(PLACES)
    inside = {
        "serialised": php({"home": LIVE + "/é", "n": 1}), "json": json.dumps({"home": LIVE}),
        "itself": php({"deep": PACKERS["zlib"](php([LIVE, "x" * 40]))}), "a file of code": f"see {LIVE} now, and later",
        "no page of it": php({"home": "https://elsewhere.example"}),
    }[within]  # fmt: skip
    cell = pack(inside)
    done = rewriter.text(cell)
    assert rewriter.left_in(cell.encode()) == (within != "no page of it")
    assert not rewriter.left_in(done.encode())
    assert opened(done) == rewriter.text(inside) or within == "no page of it"
    assert (done == cell) == (within == "no page of it"), "what holds nothing of it stays to the byte"
    assert ("\r\n" in done) == (packer == "in lines")
    # Within a longer text, a serialised one, and a file that answers nobody.
    assert rewriter.text(php({"packed": cell})) == php({"packed": done})
    file = f"<?php exit; ?>{cell}"
    assert rewriter.of_bytes(file.encode()) == f"<?php exit; ?>{done}".encode()


@pytest.mark.parametrize("pack", [zlib.compress, gzip.compress])
def test_compressed_bytes_are_rewritten_and_others_stay(pack: Callable[[bytes], bytes]) -> None:
    rewriter = Rewriter(PLACES)
    cell = pack(php({"home": LIVE}).encode())
    done = rewriter.cell(cell)
    assert isinstance(done, bytes) and zlib.decompress(done, 47).decode() == php({"home": CLONE})
    for other in (cell[:-3], cell + b"x", pack(b"\xff\xd8" + LIVE.encode()), pack(b"0" * 20_000_000)):
        assert rewriter.cell(other) == other, "cut, followed by something, no text, or too large: left alone"


@given(st.text(alphabet="abcXYZ019+/=-_.:\n ", max_size=120))
def test_whatever_looks_packed_does_no_harm(text: str) -> None:
    assert Rewriter(PLACES).text(text) == text


def test_settings_within_packed_cells_have_names_and_can_be_set() -> None:
    cell = PACKERS["zlib"](php({"title": "Seeds", "home": LIVE + "/" * 20}))
    assert cell_value(cell) == {"title": "Seeds", "home": LIVE + "/" * 20}
    changed = with_part(cell, ["title"], "Grain")
    assert cell_value(changed) == {"title": "Grain", "home": LIVE + "/" * 20} and opened(changed).startswith("a:2:")
    assert cell_value("d41d8cd98f00b204e9800998ecf8427e") == "d41d8cd98f00b204e9800998ecf8427e"


@pytest.mark.parametrize("head", ["<?php die(); ?>", "\n", "# ", ""])
@pytest.mark.parametrize("tail", ["\n", " ?>", "; and a:1:{ is none", ""])
def test_a_value_within_a_text_keeps_its_lengths(head: str, tail: str) -> None:
    value = {"a": LIVE, "deep": {"b": f"é {LIVE}/x", "n": 7}}
    there = {"a": CLONE, "deep": {"b": f"é {CLONE}/x", "n": 7}}
    text = f"{head}{php(value)}{tail}"
    assert Rewriter(PLACES).text(text) == f"{head}{php(there)}{tail}"
    twice = f"{text} {LIVE} {php([LIVE])}"
    assert Rewriter(PLACES).text(twice) == f"{head}{php(there)}{tail} {CLONE} {php([CLONE])}"


def test_a_wrong_length_is_plain_text() -> None:
    assert Rewriter(PLACES).text(f's:5:"{LIVE}";') == f's:5:"{CLONE}";'


def test_places_that_are_left_are_found() -> None:
    rewriter = Rewriter(PLACES)
    assert rewriter.left_in(b"\x00\xff" + LIVE.encode() + b"\x01")
    assert not rewriter.left_in(b"http://127.0.0.1:86420")


nodes = st.recursive(
    st.none()
    | st.booleans()
    | st.integers(-(2**40), 2**40)
    | st.text(max_size=12)
    | st.sampled_from([LIVE, LIVE + "/x", "/srv/site/a"]),
    lambda inner: st.dictionaries(st.text(max_size=5) | st.integers(0, 99), inner, max_size=4),
    max_leaves=12,
)


@given(nodes)
def test_serialised_values_come_back(value: Any) -> None:
    text = php(value)
    assert serialised.write(serialised.parse(text)) == text
    if isinstance(value, str):
        assert serialised.plain(serialised.parse(text)) == value


@given(nodes)
def test_rewriting_a_value_is_rewriting_its_texts(value: Any) -> None:
    rewriter = Rewriter(PLACES)

    def by_hand(v: Any) -> Any:
        if isinstance(v, dict):
            return {by_hand(k): by_hand(x) for k, x in v.items()}
        return v.replace(LIVE, CLONE).replace("/srv/site", "/var/clones/x/site") if isinstance(v, str) else v

    assert rewriter.text(php(value)) == php(by_hand(value))
    assert json.loads(rewriter.text(json.dumps({"v": value}))) == json.loads(json.dumps({"v": by_hand(value)}))


@given(st.text(alphabet='sabiNOdC:;{}"0123456789\\é', max_size=40))
def test_whatever_looks_like_a_value_does_no_harm(text: str) -> None:
    assert Rewriter(PLACES).text(text) == text
    with contextlib.suppress(serialised.NotSerialised):
        assert serialised.write(serialised.parse(text)) == text


@pytest.mark.parametrize(
    ("cell", "path", "value", "after"),
    [
        ('{"per_page": 12, "x": {"y": [1, 2]}}', "x.y.1", 9, '{"per_page": 12, "x": {"y": [1, 9]}}'),
        ('{"u": "a\\/b", "n": 1}', "n", 2, '{"u": "a\\/b", "n": 2}'),
        (
            'a:1:{s:1:"k";a:2:{i:0;s:4:"Herb";i:1;s:4:"bean";}}',
            "k.0",
            "herbs",
            'a:1:{s:1:"k";a:2:{i:0;s:5:"herbs";i:1;s:4:"bean";}}',
        ),
        ("plain", "", "other", "other"),
    ],
)
def test_a_part_of_a_cell_is_set(cell: str, path: str, value: Any, after: str) -> None:
    assert with_part(cell, path.split(".") if path else [], value) == after


@pytest.mark.parametrize(("cell", "path"), [('{"a": 1}', "b"), ("a:0:{}", "x"), ("plain", "x"), ("[1]", "3")])
def test_a_part_that_is_not_there_is_an_error(cell: str, path: str) -> None:
    with pytest.raises(KeyError):
        with_part(cell, path.split("."), "v")


def test_leaves_of_a_value() -> None:
    assert flat({"a": {"b": [1, 2]}, "c": "x"}) == {"a.b.0": 1, "a.b.1": 2, "c": "x"}
    assert flat("plain") == {"": "plain"}


def test_a_database_is_rewritten_cell_by_cell_and_counted(tmp_path: Path) -> None:
    path = tmp_path / "a.db"
    query(path, "CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT)")
    query(path, "CREATE TABLE files (data BLOB, note TEXT)")
    query(path, "INSERT INTO settings VALUES ('address', ?), (?, 'key too'), ('other', 'x')", LIVE, LIVE + "/k")
    query(path, "INSERT INTO files VALUES (?, 'a'), (?, ?)", LIVE.encode(), b"\xff\x00" + LIVE.encode(), php([LIVE]))
    database = open_database(DatabasePlace("sqlite", path))
    counts = rewrite_database(database, Rewriter(PLACES)).cells
    assert counts == {"settings.value": 1, "settings.name": 1, "files.data": 1, "files.note": 1}
    assert query(path, "SELECT value FROM settings WHERE name = 'address'") == [(CLONE,)]
    assert query(path, "SELECT note FROM files WHERE note <> 'a'") == [(php([CLONE]),)]
    assert places_left(database, Rewriter(PLACES)) == ["files.data"], "packed bytes are told of, not passed over"


@given(
    st.lists(
        st.sampled_from(
            ["x", LIVE, "127.0.0.1:8642", "/srv/site", "/srv/site2", "seeds", "\\/", "%2F", '"', "a:1:{", "é", " "]
        ),
        max_size=12,
    ).map("".join)
)
def test_what_is_passed_over_quickly_is_what_rewriting_would_leave(text: str) -> None:
    """`may_touch` may say yes too often, and no only where nothing is to be done."""
    rewriter = Rewriter(PLACES)
    data = text.encode()
    if not rewriter.may_touch(data):
        assert rewriter.text(text) == text and not rewriter.left_in(data)
    assert rewriter.touches(data) <= rewriter.may_touch(data)


@pytest.mark.parametrize("places", [{"/a": "/b"}, {"http://h": "http://i"}, {"é/é": "x"}, {}])
def test_short_and_odd_places_are_rewritten_too(places: dict[str, str]) -> None:
    rewriter = Rewriter(places)
    for old, new in places.items():
        assert rewriter.text(f"see {old} there") == f"see {new} there"
    assert rewriter.text("nothing") == "nothing"


def test_blocks_that_hold_nothing_are_passed_over_and_packed_cells_are_not(tmp_path: Path) -> None:
    file = tmp_path / "d.db"
    query(file, "CREATE TABLE t (id INTEGER PRIMARY KEY, body)")
    for number in range(3000):
        query(file, "INSERT INTO t VALUES (?, ?)", number, "nothing here") if number % 1000 else None
    query(file, "INSERT INTO t VALUES (5000, ?)", LIVE.encode())
    query(file, "INSERT INTO t VALUES (5001, ?)", f"at {LIVE}")
    query(file, "CREATE TABLE hosts (id INTEGER PRIMARY KEY, host TEXT, port INTEGER)")
    query(file, "INSERT INTO hosts VALUES (1, '127.0.0.1', 8642), (2, '127.0.0.1', 80), (3, 'other', 8642)")
    database = open_database(DatabasePlace("sqlite", file))
    counts = rewrite_database(database, Rewriter(PLACES), HostMove.between(LIVE, CLONE)).cells
    assert dict(counts) == {"t.body": 2, "hosts.host": 1, "hosts.port": 1}
    assert query(file, "SELECT body FROM t WHERE id >= 5000") == [(CLONE.encode(),), (f"at {CLONE}",)]
    assert query(file, "SELECT host, port FROM hosts") == [("127.0.0.1", 50123), ("127.0.0.1", 80), ("other", 8642)]
    assert places_left(database, Rewriter(PLACES)) == []

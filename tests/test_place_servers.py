"""The same places behind real servers, over lines that are cut."""

from __future__ import annotations

import random
import subprocess
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from conftest import harbor
from keenharbor.base.progress import Silent
from keenharbor.place.adding import set_up
from keenharbor.place.berth import Berth
from keenharbor.place.carriers import CarrierError, open_carrier
from keenharbor.place.checking import verify
from keenharbor.place.fetching import berths_in, fetch
from keenharbor.place.keys import PlaceKey
from keenharbor.place.line import Line
from keenharbor.place.places import Place
from keenharbor.place.sending import send
from keenharbor.site.routines import PlacePart
from keenharbor.site.whereabouts import Whereabouts
from keenharbor.snapshot.verify import verify_store
from keenharbor.store import Store
from made_places import made_snapshot
from place_servers import SERVERS, CutLine, Server, need_program


@pytest.fixture(scope="module", params=["sftp", "s3", "webdav"])
def server(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    if request.param == "sftp":
        need_program("sshd", "ssh-keygen")
    with SERVERS[request.param](tmp_path_factory.mktemp(request.param) / "server") as made:
        yield made


def through(server: Server, line: CutLine) -> Server:
    """The server, met over a line."""
    options = dict(server.options)
    if "endpoint" in options:
        options["endpoint"] = options["endpoint"].replace(f":{server.port}", f":{line.port}")
    if "known_hosts" in options:
        known = Path(options["known_hosts"])
        known.write_text(
            known.read_text() + known.read_text().splitlines()[0].replace(str(server.port), str(line.port)) + "\n"
        )
    return replace(server, url=server.url.replace(f":{server.port}", f":{line.port}"), options=options)


def test_a_store_goes_over_a_line_that_is_cut_and_comes_back(server: Server, tmp_path: Path) -> None:
    store, chance = Store.create(tmp_path / "store"), random.Random(5)
    for number in range(4):
        made_snapshot(store, "lane", number, chance, 2_000_000)
    where = Whereabouts("lane", tmp_path / "k.toml", tmp_path / "site", tmp_path / "work", tmp_path / "store")
    where.site_file.write_text("[site]\nname = 'lane'\n")
    line = CutLine(server.port, chance, 8, 3_000_000)
    cut = through(server, line)
    url = cut.url.replace("shelf", "cut")
    place = Place(PlacePart(name="far", url=url, **cut.options), tmp_path, Berth(tmp_path / "work/places/far"))
    key = PlaceKey.made()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("keenharbor.place.places.PARCEL", 500_000)
        with place.line(makes=True) as opened:
            set_up(place.berth, opened, key, "lane", new=True)
        done = send(where, place, store, Silent())
    assert done.good and len(done.snapshots) == 4 and line.made > 0
    assert send(where, place, store, Silent()).parcels == 0
    checked = verify(place, Silent(), everything=True, key=key)
    assert checked.good and checked.parcels == checked.read > 16
    with place.line() as opened:
        (found,), others = berths_in(opened, key)
        fetched = fetch(opened, found, key, tmp_path / "back", Silent())
    line.close()
    assert fetched.good and len(fetched.whole) == 4 and others == 0
    assert verify_store(Store(fetched.store), Silent()).good


def test_objects_are_written_once_listed_read_and_removed(server: Server, tmp_path: Path) -> None:
    given = replace(server, url=server.url.replace("shelf", "plain")).whither(tmp_path)
    carrier = open_carrier(given, makes=True)
    paced: list[int] = []
    carrier.put("a/b/one", b"seeds" * 100_000, paced.append)
    carrier.put("a/two words.txt", b"", paced.append)
    assert sum(paced) >= 500_000
    assert carrier.sizes("a") == {"a/b/one": 500_000, "a/two words.txt": 0} == carrier.sizes("")
    assert carrier.sizes("nothing") == {}
    assert carrier.get("a/b/one", 500_000, paced.append) == b"seeds" * 100_000
    with pytest.raises(CarrierError, match="larger"):
        carrier.get("a/b/one", 499_999, paced.append)
    with pytest.raises(CarrierError, match="missing"):
        carrier.get("a/three", 10, paced.append)
    carrier.remove("a/b/one")
    carrier.remove("a/b/one")
    assert carrier.sizes("a") == {"a/two words.txt": 0}
    carrier.close()


def test_who_is_not_let_in_is_told_at_once(server: Server, tmp_path: Path) -> None:
    given = server.whither(tmp_path)
    if given.key_file is not None:
        stranger = tmp_path / "stranger"
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(stranger)], check=True)
        wrong = replace(given, key_file=stranger)
        unknown = replace(given, known_hosts=tmp_path / "none")
        (tmp_path / "none").write_text("")
        with pytest.raises(CarrierError, match="not known"), Line(lambda: open_carrier(unknown)):
            pass
    elif given.endpoint is not None:
        wrong = replace(given, url="s3://no-such-bucket/x")
    else:
        wrong = replace(given, password="another")
    with pytest.raises(CarrierError) as told, Line(lambda: open_carrier(wrong, makes=True)) as line:
        line.sizes("")
        line.put("x", b"")
    assert not told.value.passing


def test_a_sites_place_is_added_by_its_address(server: Server, tmp_path: Path, scene_of_words: Path) -> None:
    key = tmp_path / "key"
    url = server.url.replace("shelf", "site")
    harbor(scene_of_words, "place", "add", "far", url, *server.words, "--key-to", key)
    assert harbor(scene_of_words, "place", "send", "--json").json[0]["snapshots"]
    ran = harbor(tmp_path, "fetch", url, *server.words, "--key", key, "--to", "back", "--of", "marrow-lane", "--json")
    assert ran.json["whole"] and not ran.json["problems"]


@pytest.fixture
def scene_of_words(scene: object) -> Path:
    folder: Path = scene.folder  # type: ignore[attr-defined]
    harbor(folder, "snapshot", "take")
    return folder

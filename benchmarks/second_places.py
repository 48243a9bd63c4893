"""What sending to a second place costs, against its client library alone, and what cut lines make go twice.

    python benchmarks/second_places.py [MEGABYTES] [sftp|s3|webdav|folder]

For each kind a private server is started on loopback. First the client library alone sends files of the size of a
parcel; then a store of so many megabytes is sent, with the line cut 20 times at random bytes, and sent whole; then a
sending with nothing to do is timed, also for a store of 10,000 packs."""

from __future__ import annotations

import contextlib
import os
import random
import shutil
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

import pytest

from keenharbor.base.progress import Silent
from keenharbor.place.adding import set_up
from keenharbor.place.berth import Berth
from keenharbor.place.carriers import no_pace, open_carrier
from keenharbor.place.keys import PlaceKey
from keenharbor.place.parcels import PARCEL
from keenharbor.place.places import Place
from keenharbor.place.sending import Sending, send
from keenharbor.site.routines import PlacePart
from keenharbor.site.whereabouts import Whereabouts
from keenharbor.store import Store
from made_places import made_snapshot, made_snapshots
from place_servers import SERVERS, CutLine, Server

CUTS = 20


def folder_server(folder: Path) -> Any:
    return contextlib.nullcontext(Server((folder / "disk").as_uri(), {}, 0, folder / "disk"))


def main(megabytes: int, kinds: list[str]) -> None:
    with tempfile.TemporaryDirectory(dir="/var/tmp") as made:
        base = Path(made)
        store = Store.create(base / "store")
        size = 0
        chance = random.Random(1)
        number = 0
        while size < megabytes * 1024 * 1024:
            size += made_snapshot(store, "lane", number, chance, 64 * 1024 * 1024)
            number += 1
        print(f"a store of {size / 1e6:.0f} MB in {len(store.pack_files())} packs, {number} snapshots")
        for kind in kinds:
            one(kind, base / kind, store, size)
        ten_thousand(base / "many", base)


def one(kind: str, base: Path, store: Store, size: int) -> None:
    where = Whereabouts("lane", base / "keenharbor.toml", base / "site", base / "work", store.folder)
    base.mkdir()
    where.site_file.write_text("")
    with {"folder": folder_server, **SERVERS}[kind](base / "server") as server:
        alone = library_alone(server, base, min(size, 256 * 1024 * 1024))
        print(f"{kind:8} the library alone       {alone / 1e6:7.0f} MB/s")
        done, seconds, _ = sent(where, server, store, base, "whole")
        rate = done.bytes / seconds
        print(f"{kind:8} sent whole              {rate / 1e6:7.0f} MB/s   {rate / alone:.2f} of the library")
        began = time.perf_counter()
        send(where, _place(where, server, base, "whole"), store, Silent())
        print(f"{kind:8} nothing to send         {time.perf_counter() - began:7.2f} s")
        if server.port:
            line = CutLine(server.port, random.Random(2), CUTS, max(size // CUTS, 1))
            cut = replace(server, url=server.url.replace(f":{server.port}", f":{line.port}"))
            if "endpoint" in cut.options:
                cut = replace(cut, options={**cut.options, "endpoint": f"http://127.0.0.1:{line.port}"})
            if "known_hosts" in cut.options:
                known = Path(cut.options["known_hosts"])
                known.write_text(known.read_text() + known.read_text().replace(f"{server.port}]", f"{line.port}]"))
            done, seconds, rounds = sent(where, cut, store, base, "cut")
            twice = line.carried - done.bytes
            print(
                f"{kind:8} cut {line.made} times             {done.bytes / seconds / 1e6:5.0f} MB/s   "
                f"{rounds} runs; carried {line.carried / 1e6:.0f} MB for {done.bytes / 1e6:.0f}: "
                f"{twice / 1e6:.1f} MB twice, {twice / max(line.made, 1) / PARCEL:.2f} parcels a cut"
            )
            line.close()


def _place(where: Whereabouts, server: Server, base: Path, name: str) -> Place:
    part = PlacePart(name=name, url=server.url, **server.options)
    return Place(part, base, Berth(where.work / "places" / name))


def sent(where: Whereabouts, server: Server, store: Store, base: Path, name: str) -> tuple[Sending, float, int]:
    place = _place(where, server, base, name)
    with place.line(makes=True) as line:
        set_up(place.berth, line, PlaceKey.made(), "lane", new=True)
    began = time.perf_counter()
    done = send(where, place, store, Silent())
    return done, time.perf_counter() - began, 1


def library_alone(server: Server, base: Path, size: int) -> float:
    """Bytes a second of the carrier's own client, four at a time, of blocks that are there already."""
    from concurrent.futures import ThreadPoolExecutor

    carrier = open_carrier(server.whither(base), makes=True)
    block = os.urandom(PARCEL)
    names = [f"alone/{n:04d}" for n in range(size // PARCEL)]
    began = time.perf_counter()
    with ThreadPoolExecutor(4) as pool:
        list(pool.map(lambda n: carrier.put(n, block, no_pace), names))
    taken = time.perf_counter() - began
    for name in names:
        carrier.remove(name)
    carrier.close()
    return size / taken


def ten_thousand(base: Path, root: Path) -> None:
    """Nothing to send of 10,000 packs."""
    shutil.rmtree(base, ignore_errors=True)
    where = Whereabouts("lane", base / "keenharbor.toml", base / "site", base / "work", base / "store")
    base.mkdir()
    where.site_file.write_text("")
    store = Store.create(base / "store")
    chance = random.Random(3)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(os, "fsync", lambda _: None)  # this store need not survive anything
        made_snapshots(store, "lane", 10_000, chance, 2000)
    server = Server((base / "disk").as_uri(), {}, 0, base / "disk")
    _, seconds, _ = sent(where, server, store, base, "many")
    began = time.perf_counter()
    again = send(where, _place(where, server, base, "many"), store, Silent())
    assert not again.parcels and again.in_all == 10_000, again
    print(
        f"10,000 packs, 10,000 snapshots: first {seconds:.1f} s, then {time.perf_counter() - began:.2f} s with nothing "
        f"to send"
    )


if __name__ == "__main__":
    kinds = sys.argv[2:] or ["folder", "sftp", "s3", "webdav"]
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 1024, kinds)

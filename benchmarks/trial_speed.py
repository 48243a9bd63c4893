"""How fast looks, pictures, checkpoints and clones are (see README.md).

python benchmarks/trial_speed.py [look] [memory] [pictures] [checkpoint] [clone]
"""

from __future__ import annotations

import asyncio
import multiprocessing
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from snapshot_speed import best, make_tree

from keenharbor.base.progress import Silent
from keenharbor.clone.making import make_clone
from keenharbor.clone.server import free_port
from keenharbor.compare import Visitor, compare_pages, learn_noise, take_look
from keenharbor.compare.camera import Camera, missing_browser
from keenharbor.compare.pictures import decode, different_regions
from keenharbor.site.load import open_site
from keenharbor.site.model import LookPart
from keenharbor.snapshot import TakeOptions, take_snapshot
from keenharbor.store import Store


def page_of(number: int, pages: int) -> bytes:
    """A plain page: a menu, some paragraphs, links to others."""
    links = "".join(f'<li><a href="/p{(number * 7 + k * 13 + 1) % pages}.html">page</a></li>' for k in range(10))
    text = "".join(f"<p>Paragraph {k} of page {number}: seeds, beds, and what grows in them.</p>" for k in range(12))
    after = f'<a href="/p{(number + 1) % pages}.html">next</a>'
    head = f"<!DOCTYPE html><html><head><title>Page {number}</title></head>"
    return f"{head}<body><nav><ul>{links}</ul></nav><main>{text}{after}</main></body></html>".encode()


def serve(port: int, pages: int) -> None:
    """Serve plain pages as fast as this language can: one write an answer, connections kept."""

    async def visit(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while True:
                head = await reader.readuntil(b"\r\n\r\n")
                path = head.split(b" ", 2)[1]
                number = 0 if path == b"/" else int(path[2:-5]) if path.startswith(b"/p") else -1
                body = page_of(number, pages) if number >= 0 else b"not found"
                status = b"200 OK" if number >= 0 else b"404 Not Found"
                kind = b"\r\nContent-Type: text/html; charset=utf-8\r\nContent-Length: "
                writer.write(b"HTTP/1.1 " + status + kind + str(len(body)).encode() + b"\r\n\r\n" + body)
                await writer.drain()
        except (asyncio.IncompleteReadError, ConnectionError, ValueError):
            writer.close()

    async def run() -> None:
        server = await asyncio.start_server(visit, "127.0.0.1", port)
        await server.serve_forever()

    asyncio.run(run())


@contextmanager
def served(pages: int) -> Iterator[str]:
    port = free_port()
    process = multiprocessing.get_context("spawn").Process(target=serve, args=(port, pages), daemon=True)
    process.start()
    time.sleep(1.5)
    try:
        yield f"http://127.0.0.1:{port}"
    finally:
        process.terminate()


def look(address: str, limit: int) -> int:
    with Visitor(address) as visitor:
        return len(take_look(visitor, LookPart(limit=limit), samples=1, served=False).pages)


def measure_look() -> None:
    with served(1000) as address, tempfile.TemporaryDirectory() as name:
        ours = best(lambda: look(address, 1000))
        command = ["wget", "--quiet", "--recursive", "--level=inf", "--no-parent", address + "/"]

        def theirs() -> None:
            shutil.rmtree(name, ignore_errors=True)
            Path(name).mkdir()
            subprocess.run(command, cwd=name, check=True)

        other = best(theirs)
        print(f"look at 1,000 plain pages: {ours:.2f} s; wget --recursive {other:.2f} s: {ours / other:.2f} (bar 1)")


def measure_memory() -> None:
    """Two looks and their comparison, of 1,000 and of 10,000 pages, each in a process of its own."""
    for pages in (1000, 10_000):
        with served(pages) as address:
            code = (
                "import sys, resource; sys.path.insert(0, sys.argv[3])\n"
                "from trial_speed import look_twice\n"
                "look_twice(sys.argv[1], int(sys.argv[2]))\n"
                "print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024)"
            )
            ran = subprocess.run([sys.executable, "-c", code, address, str(pages), str(Path(__file__).parent)],
                                 capture_output=True, text=True, check=True)  # fmt: skip
            print(f"two looks at {pages:,} pages and their comparison: {ran.stdout.strip()} MiB at most")


def look_twice(address: str, pages: int) -> None:
    with Visitor(address) as visitor:
        looks = [take_look(visitor, LookPart(limit=pages), samples=1, served=False) for _ in range(2)]
    assert compare_pages(looks[0], looks[1], learn_noise(looks)) == []
    assert len(looks[0].pages) == pages, len(looks[0].pages)


def measure_pictures() -> None:
    lacking = missing_browser()
    if lacking:
        print(f"pictures: {lacking}")
        return
    paths = [f"/p{n}.html" for n in range(40)]
    with served(1000) as address:
        with Camera() as camera:
            camera.shoot(address, paths[:4], (1280,))
            began = time.perf_counter()
            shots = camera.shoot(address, paths, (1280,))
            ours = len(shots) / (time.perf_counter() - began)
        other = alone(address, paths)
    print(f"pictures: {ours:.1f} a second; Chromium alone {other:.1f}: {ours / other:.2f} (bar 0.9)")
    tall = [decode(s.png) for s in shots[:2]]
    import numpy as np

    before = np.resize(tall[0], (4000, 1280, 3)).copy()
    after = np.insert(before, 900, np.full((40, 1280, 3), 200, np.uint8), axis=0)[:4000].copy()
    after[2500:2560, 200:600] = 30
    different_regions(before, after)  # loads what it needs
    seconds = best(lambda: different_regions(before, after), times=5)
    print(f"comparing two pictures of 1280x4000: {seconds:.3f} s (bar 0.15)")


def alone(address: str, paths: list[str]) -> float:
    """Pictures a second by the browser with nothing of ours about it: one tab, its protocol's own order for a
    picture."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=shutil.which("chromium"), args=["--no-sandbox", "--disable-gpu", "--hide-scrollbars"]
        )
        page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        page.goto(address + paths[0])
        began = time.perf_counter()
        for path in paths:
            page.goto(address + path)
            page.screenshot(full_page=True)
        rate = len(paths) / (time.perf_counter() - began)
        browser.close()
    return rate


def site_of(folder: Path) -> Path:
    """A site of 20,000 files and a table of 200,000 rows."""
    import sqlite3

    make_tree(folder / "site", 20_000)
    connection = sqlite3.connect(folder / "data.db")
    connection.execute("CREATE TABLE notes (id INTEGER PRIMARY KEY, body TEXT)")
    connection.executemany(
        "INSERT INTO notes (body) VALUES (?)", ((f"note {n} of the garden " * 6,) for n in range(200_000))
    )
    connection.commit()
    connection.close()
    (folder / "site/VERSION").write_text("1.0\n")
    file = folder / "keenharbor.toml"
    file.write_text(
        'format = 1\n[site]\nname = "big"\nroot = "site"\naddress = "http://big.example.test"\n[platform]\nname = '
        '"big"\n'
        '[core]\nversion_file = "VERSION"\npackage = "big"\n[database]\npath = "data.db"\n'
        '[runtime]\nname = "none"\nversion = "1"\n'
    )
    return file


def measure_checkpoint_and_clone(what: set[str]) -> None:
    with tempfile.TemporaryDirectory(prefix="harbor-bench-") as name:
        folder = Path(name)
        site = open_site(site_of(folder))
        store = Store.create(site.store_folder)
        taken = take_snapshot(site, store, TakeOptions(), Silent(), None)
        if "checkpoint" in what:
            clone = make_clone(site, taken, "bench", mail_port=free_port())
            beside = Store.create(folder / "checkpoints", behind=[store])
            options = TakeOptions(reason="checkpoint", every_row=True)
            first = take_snapshot(clone.site, beside, options, Silent(), None)
            time.sleep(2.5)  # only then does an engine's mark prove that nothing changed
            seconds = best(lambda: take_snapshot(clone.site, beside, options, Silent(), first), times=3)
            print(f"checkpoint of an unchanged site of 20,000 files: {seconds:.2f} s (bar 1)")
            clone.drop()
        if "clone" in what:
            ours = best(lambda: make_clone(site, taken, "bench", mail_port=free_port()).drop(), times=3)

            def by_hand() -> None:
                shutil.rmtree(folder / "copy", ignore_errors=True)
                subprocess.run(["cp", "-a", str(folder / "site"), str(folder / "copy")], check=True)
                code = (
                    "import sqlite3, sys; a = sqlite3.connect(sys.argv[1]); b = sqlite3.connect(sys.argv[2]); "
                    "b.executescript('\\n'.join(a.iterdump()))"
                )
                subprocess.run(
                    [sys.executable, "-c", code, str(folder / "data.db"), str(folder / "copy/data.db")], check=True
                )

            other = best(by_hand, times=3)
            told = f"a clone, made and removed: {ours:.2f} s; cp -a and a load of the database's SQL {other:.2f} s"
            print(f"{told}: {ours / other:.2f} (bar 1.3)")


def main() -> None:
    """Measure what is named, or all."""
    what = set(sys.argv[1:]) or {"look", "memory", "pictures", "checkpoint", "clone"}
    if "look" in what:
        measure_look()
    if "memory" in what:
        measure_memory()
    if "pictures" in what:
        measure_pictures()
    if what & {"checkpoint", "clone"}:
        measure_checkpoint_and_clone(what)
    print(f"(peak of this process: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024} MiB)")


if __name__ == "__main__":
    main()

"""A site that shares its host with others: its address has a path."""

from __future__ import annotations

import sqlite3
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import environment, harbor
from keenharbor.base.errors import UsageError
from keenharbor.clone.server import free_port
from keenharbor.compare.visitor import VisitError, Visitor
from keenharbor.host import Here, ReadPath, WalkRules
from keenharbor.site.gates import gate_for
from keenharbor.site.inference.address import site_address
from keenharbor.site.load import open_site
from keenharbor.site.model import LookPart, SitePart
from keenharbor.tree import AreaRules, scan_tree
from test_unaided import PHP, needs_php, put

CLUB = {
    "index.php": """<?php require 'config.php'; [$news, $url] = club(); ?>
<title>Club</title><a href="/club/news.php">news</a> <a href="<?= $url ?>/about/us">about</a> <a href="/shop/">shop</a>
<a href="/clubhouse.php">not ours</a>
<p><?= substr($_SERVER['REQUEST_URI'], -9) === '/about/us' ? 'About us' : $news ?></p>
""",
    "news.php": "<?php require 'config.php'; ?>\n<title>News</title><a href='.'>back</a><h1>Old look</h1>\n",
    "config.php": """<?php
define('SITE_URL', 'http://127.0.0.1:{port}/club');
define('DB_FILE', '{root}/data/club.sqlite');
function club() {
    $db = new SQLite3(DB_FILE);
    return [$db->querySingle("SELECT value FROM options WHERE name = 'news'"),
            $db->querySingle("SELECT value FROM options WHERE name = 'siteurl'")];
}
""",
    "version.txt": "3.1\n",
}


@pytest.fixture
def club(tmp_path: Path) -> Iterator[tuple[Path, str]]:
    """The club's site beside a shop's, on one host."""
    port, root = free_port(), tmp_path / "www/club"
    put(root, {p: t.replace("{port}", str(port)).replace("{root}", str(root)) for p, t in CLUB.items()})
    put(tmp_path / "www", {"shop/index.php": "<title>Shop</title>", "clubhouse.php": "<title>House</title>"})
    (root / "data").mkdir()
    with sqlite3.connect(root / "data/club.sqlite") as database:
        database.execute("CREATE TABLE options (name TEXT PRIMARY KEY, value TEXT)")
        said = {"news": "Seeds have come", "siteurl": f"http://127.0.0.1:{port}/club"}
        database.executemany("INSERT INTO options VALUES (?, ?)", said.items())
    database.close()
    server = subprocess.Popen(
        [str(PHP), "-d", "opcache.enable=0", "-S", f"127.0.0.1:{port}"], cwd=tmp_path / "www",
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL, env=environment(),
    )  # fmt: skip
    address = f"http://127.0.0.1:{port}"
    with Visitor(address) as visitor:
        for _ in range(100):
            try:
                visitor.get("/club/")
                break
            except VisitError:
                time.sleep(0.05)
    yield root, address
    server.kill()
    server.wait()


@needs_php
def test_it_is_taken_through_an_upgrade_and_back(club: tuple[Path, str], tmp_path: Path) -> None:
    root, address = club
    harbor(tmp_path, "init", root, "--yes", "--maintenance")
    text = (tmp_path / "keenharbor.toml").read_text()
    assert f'address = "{address}/club"' in text and '"{top}"' in text
    site = open_site(tmp_path / "keenharbor.toml")
    assert (site.address, site.base, site.told_address) == (address, "/club", f"{address}/club")
    assert f"{address}/club" in harbor(tmp_path, "survey").out
    harbor(tmp_path, "snapshot", "take")
    harbor(tmp_path, "snapshot", "drill")
    (tmp_path / "upgrade.toml").write_text(
        f'format = 1\n[plan]\nsite = "{site.name}"\ncore = "3.1"\nruntime = "{site.told_versions()[1]}"\n'
        '[[step]]\nname = "look"\nkind = "command"\ncommand = ["sed", "-i", "s/Old look/New look/", "news.php"]\n'
    )
    told = harbor(tmp_path, "trial", "run", "--json", code=None).json
    assert told["pages"] == 3
    assert [f["pages"] for f in told["findings"] if f["pages"]] == [["/club/news.php"]]
    harbor(tmp_path, "cutover", "--yes", "--despite", "verdict")
    with Visitor(address) as visitor:
        assert "New look" in visitor.get("/club/news.php").text
        assert "Seeds have come" in visitor.get("/club/").text
        assert visitor.get("/shop/").status == 200
        harbor(tmp_path, "rollback", "--yes")
        assert "Old look" in visitor.get("/club/news.php").text


@pytest.mark.parametrize(
    ("value", "key", "found"),
    [
        ("https://seeds.example/club/", "site_url", "https://seeds.example/club"),
        ("https://seeds.example/", "site_url", "https://seeds.example"),
        ("https://seeds.example/index.php", "base_url", "https://seeds.example"),
        ("https://seeds.example/club", "link", "https://seeds.example"),
        ("https://seeds.example/v1", "site_api_url", "https://seeds.example"),
        ("https://seeds.example/club?x=1", "site_url", "https://seeds.example"),
        ("seeds.example", "site_url", None),
    ],
)
def test_the_path_of_an_address_is_the_sites_where_the_key_says_so(value: str, key: str, found: str | None) -> None:
    assert site_address(value, key) == found


@pytest.mark.parametrize(
    ("link", "followed"),
    [("/club", True), ("/club?x", True), ("/club/a", True), ("/clubs", False), ("/", False), ("/club/out/1", False)],
)
def test_only_what_lies_under_the_path_is_followed(link: str, followed: bool) -> None:
    assert LookPart(inside="/club/", skip=["/club/out"]).follows(link) is followed


@pytest.mark.parametrize("address", ["https://a.example//b", "https://a.example/b?c", "a.example", "https://"])
def test_what_is_no_address_is_refused(address: str) -> None:
    with pytest.raises(ValueError, match="address"):
        SitePart(name="x", root="x", address=address)


@pytest.mark.parametrize("wanted", ["apache", "nginx", None])
def test_rules_for_a_web_server_are_not_brought_where_others_share_the_host(tmp_path: Path, wanted: str | None) -> None:
    """They go by the host's top folder; not even where the site has rules already, and no other gate is known."""
    put(tmp_path, {".htaccess": "Options -Indexes\n", "page.html": "<title>x</title>"})
    tree = Here(tmp_path.parent).reading(str(tmp_path))
    entries = scan_tree(tree, WalkRules(AreaRules({}))).entries
    assert gate_for(ReadPath(tree), entries, "php", [], wanted).language in ("apache", "nginx")
    with pytest.raises(UsageError, match="has its host to itself" if wanted else "no file was found"):
        gate_for(ReadPath(tree), entries, "php", [], wanted, "/club")

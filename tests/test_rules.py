"""A maintenance gate in the rules of a web server, before real ones."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import harbor
from keenharbor.clone.server import free_port
from keenharbor.compare import Visitor
from keenharbor.host.webserver import PrivateWebServer, WebServerKind, missing_web_server
from keenharbor.live.flag import maintenance_off, maintenance_on
from keenharbor.site.gates import Gate
from keenharbor.site.load import live_database_place, open_site
from keenharbor.site.writable import Writable

WORD = "0123456789abcdef" * 2


def needs(kind: WebServerKind) -> None:
    missing = missing_web_server(kind)
    if missing and "CI" not in os.environ:
        pytest.skip(missing)


def asked(address: str, word: str | None = None, path: str = "/") -> int:
    with Visitor(address, {} if word is None else {"X-Harbor-Pass": word}) as visitor:
        return visitor.get(path).status


@given(rest=st.text(alphabet=st.characters(exclude_characters="\r", codec="utf-8")))
def test_rules_are_taken_out_to_the_byte(rest: str) -> None:
    gate = Gate("apache", (".htaccess",))
    made = gate.put_into(".htaccess", rest.encode())
    assert made.endswith(rest.encode()) and gate.put_into(".htaccess", made) == made
    assert gate.take_out(made) == rest.encode()


@pytest.mark.parametrize("kind", ["apache", "nginx"])
def test_a_real_web_server_keeps_visitors_out_while_the_flag_stands(kind: WebServerKind) -> None:
    needs(kind)
    name = {"apache": ".htaccess", "nginx": "maintenance-gate.conf"}[kind]
    gate = Gate(kind, (name,))
    with PrivateWebServer(kind, free_port(), name if kind == "nginx" else None) as server:
        server.place(name, gate.put_into(name, b""))
        server.place("seeds/list.txt", b"skirret")
        server.start()
        assert asked(server.address) == asked(server.address, path="/seeds/list.txt") == 200
        server.place(gate.pass_file(WORD), b"")
        assert asked(server.address) == 200, "what lets through closes nothing"
        server.place(gate.flag, WORD.encode())
        for path in ("/", "/seeds/list.txt", "/maintenance.flag", f"/maintenance.flag.{WORD}"):
            assert asked(server.address, path=path) == 503, path
            assert asked(server.address, WORD, path) == 200, path
        for wrong in ("", "none", WORD[:-1], WORD + "/", "../seeds/list.txt", "x/../../maintenance.flag", ".*", "%"):
            assert asked(server.address, wrong) == 503, wrong
        server.remove(gate.flag)
        assert asked(server.address) == 200


def lane(folder: Path, root: Path, address: str, gate: str = "") -> None:
    """A site of plain pages, described."""
    (folder / "keenharbor.toml").write_text(
        f'format = 1\n[site]\nname = "lane"\nroot = "{root}"\naddress = "{address}"\n[platform]\nname = "lane"\n'
        '[core]\nversion_file = "VERSION"\npackage = "lane"\n[database]\nengine = "none"\n'
        f'[runtime]\nname = "python"\nversion = "3"\nlaunchers = {{ 3 = "{sys.executable}" }}\n'
        '[serve]\ncommand = ["{runtime}", "-m", "http.server", "--bind", "127.0.0.1", "{port}"]\n' + gate
    )
    (root / "VERSION").write_text("1.0\n")


def test_what_lets_the_tool_through_is_written_first_and_gone_with_the_flag(tmp_path: Path) -> None:
    (tmp_path / "site").mkdir()
    gate = '[maintenance]\nflag = "maintenance.flag"\nheader = "X-Harbor-Pass"\ngate = [".htaccess"]\n'
    lane(tmp_path, tmp_path / "site", "http://127.0.0.1:9", gate)
    site = open_site(tmp_path / "keenharbor.toml")
    before = set(site.scan().entries)
    live = Writable.of(site, site.place, live_database_place(site))
    maintenance_on(live, WORD)
    assert (tmp_path / f"site/maintenance.flag.{WORD}").read_bytes() == b""
    assert set(site.scan().entries) == before and site.scan().left_out == []
    (tmp_path / "site/maintenance.flag.0f").touch()  # of a run that was killed
    (tmp_path / "site/maintenance.flagged").touch()
    maintenance_off(live)
    assert {p.name for p in (tmp_path / "site").iterdir()} == {"VERSION", "maintenance.flagged"}


def test_a_site_before_which_apache_stands_gets_rules_and_goes_live_behind_them(tmp_path: Path) -> None:
    needs("apache")
    with PrivateWebServer("apache", free_port()) as server:
        own = b"<IfModule mod_rewrite.c>\nRewriteEngine On\nRewriteRule ^old$ /index.html [L]\n</IfModule>\n"
        server.place(".htaccess", own)
        server.place("index.html", b"<title>Lane</title>Good day")
        server.start()
        root = server.folder
        lane(tmp_path, root, server.address)
        shown = harbor(tmp_path, "init", "--maintenance", "--gate-in", "apache", "--yes")
        assert "+RewriteRule ^ - [R=503,L]" in shown.out and "tried on a private web server" in shown.err
        assert open_site(tmp_path / "keenharbor.toml").gate == Gate("apache", (".htaccess",))
        assert asked(server.address, path="/old") == 200
        (root / "n").mkdir()
        for number in range(70):
            (root / f"n/{number}.html").write_text(f"<title>Note</title><p>Note {number}.</p>")
        links = "".join(f'<a href="/n/{n}.html">{n}</a>' for n in range(70))
        (root / "index.html").write_text(f"<title>Lane</title><p>Good day</p>{links}")
        only_live = "case $PWD in */clones/*) ;; *) echo '<p>Late.</p>' >> n/50.html;; esac"
        (tmp_path / "upgrade.toml").write_text(
            'format = 1\n[plan]\nsite = "lane"\ncore = "1.0"\nruntime = "3"\n'
            '[[step]]\nname = "greets"\nkind = "command"\nexpects = ["*.html"]\n'
            'command = ["sed", "-i", "s/Good day/Welcome/", "index.html"]\n'
            f'[[step]]\nname = "other"\nkind = "command"\ncommand = ["sh", "-c", "{only_live}"]\n'
        )
        harbor(tmp_path, "snapshot", "take")
        harbor(tmp_path, "trial", "run", code=None)
        gone = harbor(tmp_path, "cutover", "--yes", "--despite", "verdict", "--json", code=1).json
        # What the trial had not shown on a page that no other stands for is seen when visitors are in again: told, not
        # put back, for they have written since.
        (late,) = gone["late"]
        assert late["pages"] == ["/n/50.html"] and gone["pages"] == 71
        assert set(gone["spent"]) == {"looking", "safety snapshot", "steps", "saving the arrival"}
        assert sum(gone["spent"].values()) <= gone["maintenance_seconds"] < gone["seconds"]
        assert "Welcome" in (root / "index.html").read_text() and asked(server.address) == 200
        harbor(tmp_path, "rollback", "--yes")
        assert "Good day" in (root / "index.html").read_text() and "Late" not in (root / "n/50.html").read_text()
        assert not list(root.glob("maintenance*"))
        harbor(tmp_path, "init", "--no-maintenance", "--yes")
        assert (root / ".htaccess").read_bytes() == own


def test_a_rule_that_does_not_keep_anybody_out_is_refused(tmp_path: Path) -> None:
    needs("apache")
    (tmp_path / "site").mkdir()
    lane(tmp_path, tmp_path / "site", "http://127.0.0.1:9")
    own = b"RewriteEngine On\nRewriteOptions Inherit\nErrorDocument 503 /busy.html\nRewriteEngine Off\n"
    (tmp_path / "site/.htaccess").write_bytes(own)
    refused = harbor(tmp_path, "init", "--maintenance", "--gate-in", "apache", "--yes", code=3)
    assert "the flag stands, and the web server goes on answering visitors" in refused.err
    assert (tmp_path / "site/.htaccess").read_bytes() == own
    assert "wants '--maintenance' beside it" in harbor(tmp_path, "init", "--gate-in", "nginx", code=2).err


def test_a_link_that_leads_nowhere_on_live_alone_puts_everything_back(tmp_path: Path) -> None:
    """On a site of few pages all of them are looked at behind the flag, and what they lead to."""
    needs("apache")
    with PrivateWebServer("apache", free_port()) as server:
        server.place("index.html", b"<title>Lane</title>Good day")
        server.start()
        lane(tmp_path, server.folder, server.address)
        harbor(tmp_path, "init", "--maintenance", "--gate-in", "apache", "--yes")
        only_live = "case $PWD in */clones/*) ;; *) echo '<a href=/nowhere></a>' >> index.html;; esac"
        (tmp_path / "upgrade.toml").write_text(
            'format = 1\n[plan]\nsite = "lane"\ncore = "1.0"\nruntime = "3"\n[[step]]\nname = "links"\n'
            f'kind = "command"\ncommand = ["sh", "-c", "{only_live}"]\nexpects = ["*.html"]\n'
        )
        harbor(tmp_path, "snapshot", "take")
        harbor(tmp_path, "trial", "run")
        put_back = harbor(tmp_path, "cutover", "--yes", code=4)
        assert "live differs from the trial" in put_back.err
        assert (server.folder / "index.html").read_bytes() == b"<title>Lane</title>Good day"
        assert asked(server.address) == 200 and not list(server.folder.glob("maintenance*"))

"""The report of a trial, the mail box, and what a clone's programs get to see."""

from __future__ import annotations

import os
import re
import smtplib
from collections import Counter
from dataclasses import replace
from email.message import EmailMessage
from html.parser import HTMLParser
from pathlib import Path
from xml.etree import ElementTree

import pytest

from keenharbor.base.durable import private_folder
from keenharbor.clone.mailbox import Mailbox
from keenharbor.clone.server import free_port
from keenharbor.compare import Finding, Slower, Weight
from keenharbor.demo.scene import Scene
from keenharbor.host.ports import port_is_taken
from keenharbor.host.programs import clean_environment
from keenharbor.report import junit, write_report
from keenharbor.report.trial import report_html, timing_plot
from keenharbor.site.load import open_site
from keenharbor.site.writable import fill_places
from keenharbor.trial.result import Isolation, StepRecord, TrialResult, find_trial, list_trials, save_result

HOSTILE = "<script>alert('x')</script> & \"quotes\" — ünïcode"


def result(**changes: object) -> TrialResult:
    findings = tuple(
        Finding(f"f-{n}", "block-gone", "#n", w, f"{HOSTILE} {n}", ("/a", "/b"), HOSTILE, "", "core", "runtime")
        for n, w in enumerate(Weight)
    )
    made = TrialResult(
        id="20261125-030000-abcd",
        site="marrow-lane",
        plan_file="upgrade.toml",
        plan_digest="d",
        snapshot="20261125-020000-abcd",
        started_at="2026-11-25T03:00:00.000Z",
        seconds=12.3,
        verdict="fail",
        findings=findings,
        healed=(),
        slower=(Slower("/a", 0.01, 0.05, 0.04, 0.03, 0.05, 0.001),),
        steps=(StepRecord("core", "install core 4.0", "broke", 2, 1.5, HOSTILE, 3, 1, "c"),),
        noise=("block #clock on every page",),
        pages=2,
        isolation=Isolation(
            "aa", "aa", (), False, 1, {"settings.value": 3}, (), ({"to": "a@b.example", "subject": HOSTILE},)
        ),
        clone=None,
        known=(("block-gone", "#n", "/a"),),
        timings={"/a": [[0.01] * 8, [0.05] * 8], "/b": [[0.01] * 8, [0.01] * 8]},
    )
    return TrialResult(**{**made.__dict__, **changes})


class Parser(HTMLParser):
    """Counts tags and sees to it that they are closed in order."""

    VOID = frozenset({"meta", "br", "path", "use", "rect", "circle", "line", "image", "link", "img", "input"})

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.tags: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append(tag)
        if tag not in self.VOID:
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        if tag not in self.VOID:
            assert self.open.pop() == tag


def test_a_report_is_one_sound_page_whatever_it_tells_of(shared_scene: Scene) -> None:
    site = open_site(shared_scene.site_file)
    private_folder(site.work / "trials" / result().id)
    save_result(site.work, result())
    text = write_report(site, result()).read_text()
    parser = Parser()
    parser.feed(text)
    assert parser.open == []
    assert parser.tags.count("script") == 1, "its own, and nothing of what it tells"
    assert "&lt;script&gt;" in text
    assert parser.tags.count("details") >= 3, "one a cause"
    served = Parser()
    served.feed(report_html(site, result(), served=True, problem="<i>no"))
    assert served.open == [] and served.tags.count("form") > 0 and "i" not in served.tags
    assert "form" not in parser.tags, "what lies in a drawer has no buttons"
    assert "could not be seen since the step runtime" in text
    assert "4.0 times as long" not in text and "5.0 times as long" in text
    assert not re.search(r'(src|href)="http', text)
    assert "Live was not touched." in text


def test_a_result_comes_back_from_its_file(tmp_path: Path) -> None:
    first, second = result(), result(id="20261125-040000-abcd", started_at="2026-11-25T04:00:00.000Z", verdict="pass")
    for one in (first, second):
        private_folder(tmp_path / "trials" / one.id)
        save_result(tmp_path, one)
    assert list_trials(tmp_path) == [second, first]
    assert find_trial(tmp_path, "20261125-03") == first
    (tmp_path / "trials" / first.id / "result.json").write_text("{")
    assert list_trials(tmp_path) == [second]


def test_without_timings_there_is_no_plot() -> None:
    assert timing_plot(result(timings={})) == ""
    assert timing_plot(result()).startswith("<svg")


def test_mail_is_kept_and_goes_nowhere() -> None:
    with Mailbox() as box:
        mail = EmailMessage()
        mail["From"], mail["To"], mail["Subject"] = "desk@a.example", "b@c.example", "Grüße"
        mail.set_content("Hallo, Gärtner")
        with smtplib.SMTP("127.0.0.1", box.port) as server:
            server.send_message(mail, to_addrs=["b@c.example", "hidden@c.example"])
        (kept,) = box.messages
        port = box.port
    assert kept.to == ("b@c.example", "hidden@c.example")
    assert kept.subject == "Grüße"
    assert "Hallo, Gärtner" in kept.body
    assert not port_is_taken(port)


def test_programs_of_a_clone_see_no_secrets(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("DATABASE_PASSWORD", "hunter")
    monkeypatch.setenv("HTTP_PROXY", "http://proxy.example")
    assert set(clean_environment()) <= {"PATH", "LANG", "LC_ALL", "TZ", "TMPDIR", "HOME"}
    assert clean_environment()["PATH"] == os.environ["PATH"]


def test_places_of_a_command_are_filled() -> None:
    assert fill_places(["{runtime}", "x{port}y{port}", "{other}"], {"runtime": "/bin/a b", "port": "1"}) == [
        "/bin/a b",
        "x1y1",
        "{other}",
    ]
    ports = {free_port() for _ in range(20)}
    assert len(ports) > 10 and not any(map(port_is_taken, ports))
    assert max(ports) < int(Path("/proc/sys/net/ipv4/ip_local_port_range").read_text().split()[0])


def test_junit_xml_has_a_case_a_step(tmp_path: Path) -> None:
    suite = ElementTree.fromstring(junit(result()))
    cases = {c.get("name"): c for c in suite}
    assert {s.name for s in result().steps} < cases.keys()
    assert int(suite.get("tests", "0")) == len(cases) == len(suite)
    kinds = Counter(child.tag for case in suite for child in case)
    assert int(suite.get("failures", "0")) == kinds["failure"] and int(suite.get("errors", "0")) == kinds["error"]
    assert kinds["failure"] + kinds["error"] >= 1
    assert HOSTILE in "".join(t for t in suite.itertext()) or "&lt;script" in junit(result()).decode()
    odd = replace(result(), site="a\x00b\x1f\ud800")
    ElementTree.fromstring(junit(odd))

"""A trial as JUnit XML, for what runs it by a schedule and keeps such reports."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Iterable

from keenharbor.compare import Finding, Weight
from keenharbor.trial.result import TrialResult


def junit(result: TrialResult) -> bytes:
    """One suite: a case for each step, a failure where it damaged something, skipped where a person is to look; one for
    the isolation of the clone."""
    suite = ET.Element(
        "testsuite",
        name=_plain(f"trial of {result.site}"),
        timestamp=result.started_at[:19],
        time=f"{result.seconds:.3f}",
    )
    counts = {"tests": 0, "failures": 0, "errors": 0, "skipped": 0}

    def case(name: str, seconds: float, findings: Iterable[Finding], error: str = "") -> None:
        counts["tests"] += 1
        made = ET.SubElement(
            suite, "testcase", classname=_plain(f"{result.site}.trial"), name=_plain(name), time=f"{seconds:.3f}"
        )
        found = list(findings)
        damage = [f for f in found if f.weight is Weight.DAMAGE]
        doubts = [f for f in found if f.weight is Weight.DOUBT]
        if error:
            counts["errors"] += 1
            ET.SubElement(made, "error", message=_plain(error)).text = _plain(error)
        elif damage:
            counts["failures"] += 1
            ET.SubElement(made, "failure", message=_plain(damage[0].text)).text = _told(found)
        elif doubts:
            counts["skipped"] += 1
            ET.SubElement(made, "skipped", message=_plain(f"to be looked at: {doubts[0].text}"))
        if found:
            ET.SubElement(made, "system-out").text = _told(found)

    for step in result.steps:
        case(step.name, step.seconds, [f for f in result.findings if f.step == step.name], step.problem or "")
    case("other findings", 0.0, [f for f in result.findings if f.step not in {s.name for s in result.steps}])
    live = result.isolation
    touched = "" if live.untouched or live.only_visitors else f"live changed: {', '.join(live.differences[:4])}"
    case(
        "live is untouched",
        0.0,
        [],
        touched or ("of live is left in the clone: " + ", ".join(live.traces[:3]) if live.traces else ""),
    )
    for name, count in counts.items():
        suite.set(name, str(count))
    text: bytes = ET.tostring(suite, encoding="utf-8", xml_declaration=True)
    return text


def _told(findings: Iterable[Finding]) -> str:
    return _plain(
        "\n".join(f"{f.weight.value}: {f.text}" + (f" ({', '.join(f.pages[:5])})" if f.pages else "") for f in findings)
    )


def _plain(text: str) -> str:
    """Without what XML 1.0 cannot hold."""
    return "".join(
        c for c in text if c in "\t\n\r" or " " <= c <= "\ud7ff" or "\ue000" <= c <= "\ufffd" or c >= "\U00010000"
    )

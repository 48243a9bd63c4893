"""The report of a trial: one HTML file that opens without a network."""

from __future__ import annotations

import base64
import io
from pathlib import Path

from jinja2 import Environment, PackageLoader

from keenharbor.base.durable import write_durably
from keenharbor.base.text import duration, plural
from keenharbor.site.view import SiteView
from keenharbor.trial.accepted import NEVER
from keenharbor.trial.causes import entries
from keenharbor.trial.result import TrialResult

MOST_TIMED = 12


def write_report(site: SiteView, result: TrialResult) -> Path:
    """Write ``report.html`` beside the trial's ``result.json``; returns its path."""
    file = site.work / "trials" / result.id / "report.html"
    write_durably(file, report_html(site, result).encode("utf-8"))
    return file


def report_html(site: SiteView, result: TrialResult, *, served: bool = False, problem: str = "") -> str:
    """The report as one page; ``served`` has buttons that accept, and tells the ``problem`` of the last press."""
    environment = Environment(
        loader=PackageLoader("keenharbor.report"), autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters["duration"] = duration
    return environment.get_template("trial.html").render(
        result=result,
        site=site.model.site.title or site.name,
        address=site.told_address,
        # A report lies in a drawer for years: it says dates, not ages.
        started=f"{result.started.astimezone():%Y-%m-%d %H:%M:%S}",
        entries=(causes := entries(result.findings)),
        counts={w: sum(e.weight == w for e in causes) for w in ("damage", "doubt", "note")},
        symbols={"pass": "✓", "review": "!", "fail": "✗", "damage": "✗", "doubt": "!", "note": "·"},
        by_step={s.name: [f for f in result.findings if f.step == s.name] for s in result.steps},
        longest=max((s.seconds for s in result.steps), default=1.0) or 1.0,
        cells=sum(result.isolation.rewritten_cells.values()),
        plot=timing_plot(result),
        pictures=_pictures(site.work / "trials" / result.id, result),
        looked_at_pictures=result.with_pictures,
        plural=plural,
        served=served,
        problem=problem,
        never=NEVER,
    )


def _pictures(folder: Path, result: TrialResult) -> dict[str, list[str]]:
    """By finding, its pictures before and after, to stand within the page."""
    found = {}
    for finding in result.findings:
        files = [folder / name for name in finding.evidence]
        if len(files) == 2 and all(f.is_file() for f in files):
            found[finding.id] = [f"data:image/webp;base64,{base64.b64encode(f.read_bytes()).decode()}" for f in files]
    return found


def timing_plot(result: TrialResult) -> str:
    """Response times before and after as inline SVG, the pages that moved most on top; empty without timings."""
    from statistics import median

    moved = {p: abs(median(b) - median(a)) for p, (a, b) in result.timings.items() if a and b}
    if not moved:
        return ""
    from matplotlib.figure import Figure

    paths = sorted(moved, key=moved.__getitem__, reverse=True)[:MOST_TIMED][::-1]
    slow = {s.path for s in result.slower}
    figure = Figure(figsize=(8.6, 0.34 * len(paths) + 1.1))
    axes = figure.add_subplot()
    for row, path in enumerate(paths):
        before, after = ([1000 * t for t in times] for times in result.timings[path])
        axes.plot(before, [row + 0.14] * len(before), "|", color="#557a9e", markersize=7, alpha=0.8)
        axes.plot(after, [row - 0.14] * len(after), "|", color="#b5532a", markersize=7, alpha=0.8)
        axes.plot(median(before), row + 0.14, "o", color="#557a9e", markersize=5, label="before" if row == 0 else None)
        axes.plot(median(after), row - 0.14, "o", color="#b5532a", markersize=5, label="after" if row == 0 else None)
    axes.set_yticks(range(len(paths)), [f"{p[:44]}{'  ▲' if p in slow else ''}" for p in paths])
    axes.set_xscale("log")
    ticks = (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10000)
    low, high = axes.get_xlim()
    shown = [t for t in ticks if low <= t <= high]
    axes.set_xticks(shown, [str(t) for t in shown])
    axes.minorticks_off()
    axes.set_xlabel("response time in milliseconds (logarithmic); dot: median, ▲: surely slower")
    axes.grid(axis="x", color="#cccccc", linewidth=0.6)
    axes.legend(loc="lower center", bbox_to_anchor=(0.5, 1.0), ncols=2, frameon=False)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    figure.tight_layout()
    out = io.StringIO()
    figure.savefig(out, format="svg", transparent=True)
    text = out.getvalue()
    return text[text.index("<svg") :]

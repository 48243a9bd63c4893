"""The whole way on a site that was never described: from `init` to `rollback`, by a file of answers and nothing else.

Used by the examples; runs in the environment of Keen Harbor. Every command is told with its seconds; the first one that
stops ends the play with what it said."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from planting import read_faults, score, steps_of

SAME = 'format = 1\n[plan]\nsite = "{site}"\ncore = "{core}"\nruntime = "{runtime}"\n[[step]]\nname = "nothing"\n' \
    'kind = "command"\ncommand = ["true"]\n'  # fmt: skip


@dataclass
class Chain:
    """One site in a folder: ``site`` within it; ``answers`` to what `init` asks; ``target`` are words for `plan
    draft`."""

    folder: Path
    answers: dict[str, Any]
    target: Sequence[str]
    site: str = "site"
    same_trials: int = 1
    expected: Mapping[str, str] = field(default_factory=dict)
    """Kinds of findings that a maintainer looks at and accepts, with the reason."""
    visitor: Callable[[], str] = lambda: ""
    """Writes something as a visitor; returns what must be there after the way back."""
    remains: Callable[[str], bool] = lambda what: True
    amend: Callable[[Path], None] = lambda plan: None
    """What a person has to add to the plan: changes of the site's own code."""
    cutovers: int = field(default_factory=lambda: int(os.environ.get("CUTOVERS", "1")))
    """So often live goes there and back."""
    faults: Path | None = None
    """Faults to be planted, instead of the upgrade (see `planting`)."""
    seconds: dict[str, float] = field(default_factory=dict)

    def harbor(self, *words: str, code: int | tuple[int, ...] = 0) -> Any:
        """Run Keen Harbor; what it says as JSON."""
        began = time.monotonic()
        program = Path(sys.executable).with_name("keenharbor")
        ran = subprocess.run([program, *words, "--json"], cwd=self.folder, text=True, capture_output=True, check=False)
        took = time.monotonic() - began
        name = " ".join(w for w in words[:2] if not w.startswith("-"))
        self.seconds[name] = self.seconds.get(name, 0.0) + took
        print(f"{took:6.1f} s  code {ran.returncode}  keenharbor {' '.join(words)}", flush=True)
        if ran.returncode not in (code if isinstance(code, tuple) else (code,)):
            sys.exit(f"stopped:\n{ran.stdout[-3000:]}\n{ran.stderr[-3000:]}")
        return json.loads(ran.stdout) if ran.stdout.strip() else {}

    def play_and_stop(self) -> None:
        """All of it; then the site is stopped."""
        try:
            self.play()
        finally:
            subprocess.run([sys.executable, self.folder / "host.py", "stop"], check=False)

    def play(self) -> None:
        """All of it."""
        lines = [f"{k} = {json.dumps(v)}" for k, v in self.answers.items()]
        (self.folder / "answers.toml").write_text("\n".join(lines) + "\n")
        described = self.harbor("init", self.site, "--yes", "--answers", "answers.toml", "--maintenance", "--pages")
        print(
            "    guessed:",
            ", ".join(f"{e['key']} {e['value']}" for e in described["entries"] if e["sure"] == "guessed"),
        )
        told = self.harbor("survey")
        self.harbor("snapshot", "take")
        ready = self.harbor("ready", code=(0, 1))
        print("    ready:", ready["verdict"])
        self.harbor("snapshot", "drill", "newest")
        clone = self.harbor("clone", "make", "newest")
        self.harbor("clone", "close", clone["id"])
        core, runtime = ready["now"]["core"], ready["now"]["runtime"]
        (self.folder / "same.toml").write_text(SAME.format(site=told["name"], core=core, runtime=runtime))
        for _ in range(self.same_trials):
            self.findings(self.harbor("trial", "run", "same.toml", code=(0, 1)), "A/A")
        if self.faults is not None:
            self.plant(self.faults, told["name"], core, runtime)
            return
        self.harbor("plan", "draft", *self.target, "--no-pages")
        self.amend(self.folder / "upgrade.toml")
        self.harbor("plan", "check", code=(0, 1))
        for number in range(self.cutovers):
            print(f"    there and back, time {number + 1} of {self.cutovers}")
            self.there_and_back()
        print(f"{sum(self.seconds.values()) / 60:.1f} minutes in all")

    def plant(self, file: Path, site: str, core: str, runtime: str) -> None:
        """A trial of planted faults: which are told, and laid to their step."""
        faults = read_faults(file)
        head = SAME.format(site=site, core=core, runtime=runtime).partition("[[step]]")[0]
        (self.folder / "faults.toml").write_text(head + steps_of(faults))
        told = self.harbor("trial", "run", "faults.toml", "--go-on", code=(0, 1))
        scored = score(told, faults)
        for number, outcome in scored.outcomes.items():
            print(f"    {outcome:10} {faults[number].kind}")
        right = sum(o == "right" for o in scored.outcomes.values())
        print(f"    {right} of {len(faults)} found and laid to their step, on {told['pages']} pages; {scored.entries} ")
        print(f"    entries to read; laid to harmless steps: {', '.join(scored.false) or 'nothing'}")

    def there_and_back(self) -> None:
        """Rehearse the plan on live as it is, carry it out, write as a visitor, and go back."""
        if self.rehearse()["verdict"] != "pass" and self.accept() != "pass":
            sys.exit("the trial does not pass")
        gone = self.harbor("cutover", "--yes")
        print("    maintenance:", gone["maintenance_seconds"], "s; carried on:", gone["carried_on"])
        left = self.visitor()
        looked = self.harbor("rollback", "--look")
        print("    would come along:", looked["carried"], looked["files"], "both changed:", len(looked["conflicts"]))
        back = self.harbor("rollback", "--yes")
        print("    came along:", back["carried"], "put aside:", back["aside"], "exact:", back["exact"])
        if not self.remains(left):
            sys.exit(f"what a visitor left is lost: {left}")

    def rehearse(self) -> Any:
        trial = self.harbor("trial", "run", code=(0, 1))
        self.findings(trial, "upgrade")
        print("    way back:", trial["way_back"])
        return trial

    def accept(self) -> str:
        """Accept what was expected of the newest trial; returns its verdict then."""
        kinds = {f["kind"] for f in self.harbor("trial", "show")["findings"] if f["weight"] != "note"}
        verdict = "review"
        for kind in sorted(kinds & self.expected.keys()):
            accepted = self.harbor("trial", "accept", "--kind", kind, "--because", self.expected[kind])
            verdict = str(accepted["verdict"])
        return verdict

    @staticmethod
    def findings(trial: Any, what: str) -> None:
        print(f"    {what}: {trial['verdict']}, {len(trial['findings'])} findings, {trial['pages']} pages")
        for finding in trial["findings"][:12]:
            print(f"      {finding['weight']:8} {finding['step'] or '-':10} {finding['kind']}: {finding['text'][:140]}")

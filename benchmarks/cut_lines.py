"""The line to a far machine is cut at random moments: in a snapshot, a cutover, a rollback. Once it is back, and
'keenharbor settle' was typed, live is exactly before or after, and nothing of the tool is left over there.

    python benchmarks/cut_lines.py [CUTS [SEED]]"""

from __future__ import annotations

import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from conftest import FEW_PAGES, plain_dump, plain_files
from far_machine import FarSite, far_machine, far_site
from keenharbor.demo.amend import amended
from shaped_line import Shape, ShapedLine, shaped_line

PROGRAM = Path(sys.executable).with_name("keenharbor")
State = tuple[dict[str, str], list[str]]


def state_of(site: FarSite) -> State:
    """Files and rows, as plain programs see them; sessions and logs apart."""
    rows = [row for row in plain_dump(site.scene.database) if "sessions" not in row]
    return plain_files(site.scene.root), rows


def run(site: FarSite, *words: str, code: tuple[int, ...] = (0,)) -> subprocess.CompletedProcess[str]:
    ran = subprocess.run([PROGRAM, *words], cwd=site.folder, text=True, capture_output=True, check=False, timeout=300)
    if ran.returncode not in code:
        sys.exit(f"keenharbor {' '.join(words)} ended with {ran.returncode}:\n{ran.stdout}\n{ran.stderr}")
    return ran


def cut_during(site: FarSite, line: ShapedLine, words: tuple[str, ...], after: float) -> tuple[int, str, float]:
    """Type a command and cut its line after so many seconds: its code, what it said, how long it went on."""
    process = subprocess.Popen(
        [PROGRAM, *words], cwd=site.folder, text=True, stdout=subprocess.PIPE, stderr=subprocess.STDOUT
    )
    time.sleep(after)
    line.cut()
    began = time.monotonic()
    said = process.communicate(timeout=200)[0]
    took = time.monotonic() - began
    line.mend()
    return process.returncode, said, took


def nothing_left(site: FarSite) -> list[str]:
    """What of the tool is over there though nothing is open."""
    for _ in range(100):
        if not site.machine.helpers():
            break
        time.sleep(0.1)
    left = site.machine.state_left(site.scene.root)
    for number in site.machine.helpers():
        shown = subprocess.run(["ps", "-o", "pid,ppid,stat,etimes,wchan:20", "-p", str(number)], text=True, check=False,
                               capture_output=True).stdout.splitlines()[-1]  # fmt: skip
        left.append(f"helper {shown}")
    left += [str(p) for p in site.scene.root.rglob(".*.part")]
    flag = site.scene.root / "var/maintenance.flag"
    return left + ([str(flag)] if flag.exists() else [])


def play(site: FarSite, line: ShapedLine, cuts: int, draw: random.Random) -> None:
    run(site, "snapshot", "take")
    run(site, "plan", "draft", "--core", "4.0", "--runtime", "3", code=(0, 1))
    plan = site.folder / "upgrade.toml"
    plan.write_text(amended(plan.read_text()))
    run(site, "trial", "run")
    before = state_of(site)
    lengths = {}
    for name, words in (("cutover", ("cutover", "--yes")), ("rollback", ("rollback", "--yes"))):
        began = time.monotonic()
        run(site, *words)
        lengths[name] = time.monotonic() - began
        if name == "cutover":
            after = state_of(site)
    assert state_of(site) == before, "the way back is not exact"
    began = time.monotonic()
    run(site, "snapshot", "take", "--read-all")
    lengths["snapshot take"] = time.monotonic() - began
    print({name: round(seconds, 2) for name, seconds in lengths.items()}, flush=True)
    seen: Counter[str] = Counter()
    longest = 0.0
    for number in range(cuts):
        is_after = state_of(site) == after
        name = draw.choice(
            ["snapshot take", "rollback" if is_after else "cutover", "rollback" if is_after else "cutover"]
        )
        words = {"snapshot take": ("snapshot", "take", "--read-all"), "cutover": ("cutover", "--yes"),
                 "rollback": ("rollback", "--yes")}[name]  # fmt: skip
        moment = draw.uniform(0.3, lengths[name])
        began = state_of(site)
        code, said, took = cut_during(site, line, words, moment)
        longest = max(longest, took)
        settled = run(site, "settle", code=(0, 1))
        now = state_of(site)
        told = "before" if now == began else "after" if now in (before, after) else "neither"
        left = nothing_left(site)
        seen[f"{name}: {told}, code {code}"] += 1
        print(
            f"{number + 1:3} {name:14} cut at {moment:5.2f} s, went on {took:4.1f} s, code {code}: {told} {left or ''}",
            flush=True,
        )
        if told == "neither" or left or (told == "after" and code == 3):  # which says that nothing was changed
            print(said, settled.stdout, settled.stderr)
            for what, one, other in zip(("files", "rows"), began, now, strict=True):
                a, b = (set(x.items()) if isinstance(x, dict) else set(x) for x in (one, other))
                print(what, sorted(a ^ b)[:20])
            sys.exit(1)
    for what, count in sorted(seen.items()):
        print(f"{count:4} {what}")
    print(f"{cuts} cuts, none left live between two states, nothing left there; longest till the end {longest:.1f} s")


def main() -> None:
    cuts, seed = int((sys.argv + ["100"])[1]), int((sys.argv + ["", "7"])[2] or 7) if len(sys.argv) > 2 else 7
    base = Path(tempfile.mkdtemp(prefix="cut-lines-"))
    base.chmod(0o755)
    try:
        with (
            far_machine(base / "machine") as machine,
            shaped_line(machine.port, Shape(0.002, 0)) as line,
            far_site(machine, base / "work", checks=FEW_PAGES) as site,
        ):
            text = site.site_file.read_text()
            site.site_file.write_text(text.replace(f":{machine.port}/", f":{line.port}/"))
            with site.served():
                play(site, line, cuts, random.Random(seed))
    finally:
        shutil.rmtree(base, ignore_errors=True)


if __name__ == "__main__":
    main()

"""Trials of plans that change nothing: what is found then is false.

python benchmarks/unchanged.py [RUNS] [sqlite|mariadb|postgres]      on the demonstration's site
python benchmarks/unchanged.py [RUNS] KEENHARBOR.TOML                on a site that is described there

With ``--minutes M`` each trial's steps wait so long. With ``--midnight`` the clones' clocks (by libfaketime) strike
midnight, and with it a new month, while the trial goes on: another second of it in each run.
"""

from __future__ import annotations

import argparse
import json
import re
import subprocess
from datetime import datetime, timedelta
from pathlib import Path

from described_scene import PROGRAM, described_scene

from keenharbor.site.load import open_site

FAKE_CLOCK = Path("/usr/lib/x86_64-linux-gnu/faketime/libfaketime.so.1")
FIRST, SPREAD = 6, 12
"""The clones' midnight is so many seconds after the trial's beginning, and up to so many later."""


def at_midnight(text: str, run: int, runs: int) -> str:
    """A site file whose clones are served with a clock that soon strikes midnight."""
    if not FAKE_CLOCK.exists():
        raise SystemExit(f"{FAKE_CLOCK} is missing: install libfaketime")
    now = datetime.now()
    new_month = (now.replace(day=1) + timedelta(days=32)).replace(day=1, hour=0, minute=0, second=0, microsecond=0)
    ahead = int((new_month - now).total_seconds()) - FIRST - SPREAD * run // max(1, runs)
    words = f'"env", "LD_PRELOAD={FAKE_CLOCK}", "FAKETIME=+{ahead}s", "FAKETIME_NO_CACHE=1", '
    section, found, rest = text.partition("[serve]")
    told, count = re.subn(r"(?m)^command = \[", f"command = [{words}", rest, count=1)
    if not found or not count:
        raise SystemExit("the site file does not say how a clone is served")
    return section + found + told


def trials(folder: Path, site_file: Path, runs: int, minutes: float = 0.0, *, midnight: bool = False) -> None:
    """Run so many trials, and print what they found."""
    site = open_site(site_file)
    version, runtime = site.core_version(), site.runtime_version()
    plan = folder / "unchanged-plan.toml"
    wait = f'kind = "command"\ncommand = ["sleep", "{minutes * 30:.0f}"]\ntime_limit = {minutes * 60 + 60:.0f}\n'
    steps = "".join(f'[[step]]\nname = "nothing-{n}"\n{wait}' for n in (1, 2))
    described = site_file.read_text()
    plan.write_text(f'format = 1\n[plan]\nsite = "{site.name}"\ncore = "{version}"\nruntime = "{runtime}"\n{steps}')
    subprocess.run([PROGRAM, "snapshot", "take", "--site", site_file], cwd=folder, check=True, capture_output=True)
    false: list[str] = []
    pages = 0
    for run in range(runs):
        if midnight:
            site_file.write_text(at_midnight(described, run, runs))
        ran = subprocess.run(
            [PROGRAM, "trial", "run", plan, "--site", site_file, "--json"],
            cwd=folder,
            capture_output=True,
            text=True,
            check=False,
        )
        told = json.loads(ran.stdout)
        if "findings" not in told:
            raise SystemExit(f"the trial broke off: {told}")
        pages = told["pages"]
        false += [f"{f['weight']}: {f['text']}" for f in told["findings"]]
    site_file.write_text(described)
    plan.unlink()
    print(f"{runs} trials of {pages} pages, each looked at four times: {len(false)} findings {false[:5]}")


def main() -> None:
    """As the words say."""
    reader = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    reader.add_argument("runs", type=int, nargs="?", default=20)
    reader.add_argument("what", nargs="?", default="sqlite")
    reader.add_argument("--minutes", type=float, default=0.0)
    reader.add_argument("--midnight", action="store_true")
    said = reader.parse_args()
    if said.what.endswith(".toml"):
        file = Path(said.what).resolve()
        trials(file.parent, file, said.runs, said.minutes, midnight=said.midnight)
        return
    with described_scene(said.what) as scene:
        if said.midnight:
            platform = (scene.folder / "tansy.toml").read_text()
            (told,) = re.findall(r"(?ms)^\[serve\]\n.*?(?=^\[|\Z)", platform)
            with scene.site_file.open("a") as file_of_site:
                file_of_site.write(f"\n{told}")
        trials(scene.folder, scene.site_file, said.runs, said.minutes, midnight=said.midnight)


if __name__ == "__main__":
    main()

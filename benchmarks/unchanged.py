"""Trials of plans that change nothing: what is found then is false.

python benchmarks/unchanged.py [RUNS] [sqlite|mariadb|postgres]      on the demonstration's site
python benchmarks/unchanged.py [RUNS] KEENHARBOR.TOML                on a site that is described there
"""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

from described_scene import PROGRAM, described_scene

from keenharbor.site.load import open_site


def trials(folder: Path, site_file: Path, runs: int) -> None:
    """Run so many trials, and print what they found."""
    site = open_site(site_file)
    version, runtime = site.core_version(), site.runtime_version()
    plan = folder / "unchanged-plan.toml"
    steps = "".join(f'[[step]]\nname = "nothing-{n}"\nkind = "command"\ncommand = ["true"]\n' for n in (1, 2))
    plan.write_text(f'format = 1\n[plan]\nsite = "{site.name}"\ncore = "{version}"\nruntime = "{runtime}"\n{steps}')
    subprocess.run([PROGRAM, "snapshot", "take", "--site", site_file], cwd=folder, check=True, capture_output=True)
    false: list[str] = []
    pages = 0
    for _ in range(runs):
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
    plan.unlink()
    print(f"{runs} trials of {pages} pages, each looked at four times: {len(false)} findings {false[:5]}")


def main() -> None:
    """As the words say."""
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    what = sys.argv[2] if len(sys.argv) > 2 else "sqlite"
    if what.endswith(".toml"):
        file = Path(what).resolve()
        trials(file.parent, file, runs)
        return
    with described_scene(what) as scene:
        trials(scene.folder, scene.site_file, runs)


if __name__ == "__main__":
    main()

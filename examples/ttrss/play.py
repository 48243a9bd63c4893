"""tt-rss from Debian's package, described, rehearsed, upgraded and brought back, by answers alone.

python play.py FOLDER [mariadb|postgres]       (with the Python that Keen Harbor runs in)"""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent)]

from chain import Chain  # noqa: E402
from make_site import PASSWORD  # noqa: E402

from keenharbor.compare import Visitor  # noqa: E402
from keenharbor.site.load import open_site  # noqa: E402


def main(folder: Path, engine: str = "mariadb") -> None:
    """Make the site, and play."""
    subprocess.run([sys.executable, HERE / "make_site.py", folder, engine], check=True)
    os.environ["LANE_PASSWORD"] = PASSWORD
    answers = {
        "log-in": "gardener", "password": "env:LANE_PASSWORD",
        "migrate": "{runtime} update.php --update-schema=force-yes",
    }  # fmt: skip
    chain = Chain(folder, answers, ("--release", "next"), same_trials=int(os.environ.get("SAME", "2")))

    def visit() -> str:
        """Somebody registers as a reader."""
        site = open_site(folder / "keenharbor.toml")
        with Visitor(site.address) as visitor:
            sent = {"action": "do_register", "login": "ida", "email": "ida@marrow-lane.example", "turing_test": "4"}
            answer = visitor.post("/register.php", sent)
            print("    a reader registers:", answer.status)
        return "ida@marrow-lane.example"

    def remains(what: str) -> bool:
        site = open_site(folder / "keenharbor.toml")
        with site.reading_database() as state:
            name = next(t.name for t in state.schema.tables if t.name.endswith("ttrss_users"))
            return any(what in [str(v) for v in row] for row in state.rows(name))

    chain.visitor, chain.remains = visit, remains
    if "FAULTS" in os.environ:
        chain.faults = HERE / "faults.toml"
    chain.play_and_stop()


if __name__ == "__main__":
    main(Path(sys.argv[1]).resolve(), *sys.argv[2:])

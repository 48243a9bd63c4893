"""Mezzanine 6.0 on Django 3.2 to 6.1 on 4.2: described, rehearsed, upgraded and brought back, by answers alone.

    python play.py FOLDER OLD NEW [sqlite|mariadb]       (with the Python that Keen Harbor runs in)

OLD and NEW are folders of wheels (see README.md)."""

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
from keenharbor.compare.look import run_check  # noqa: E402
from keenharbor.site.load import open_site  # noqa: E402
from keenharbor.site.model import CheckPart, CheckStep  # noqa: E402


def main(folder: Path, old: Path, new: Path, engine: str = "sqlite") -> None:
    """Make the site, and play."""
    subprocess.run([sys.executable, HERE / "make_site.py", folder, old, new, engine], check=True)
    os.environ["LANE_PASSWORD"] = PASSWORD
    answers = {
        "log-in": "editor", "password": "env:LANE_PASSWORD", "wheelhouse": "wheels",
        "reload": f"{sys.executable} {folder}/host.py web",
    }  # fmt: skip
    expected = {
        "link-gone": "the start page of the new release names its documents at another place",
        "text-changed": "how a password is kept is told in other words",
    }
    target = ("--core", "6.1.1", "--also", "Django=4.2.30")
    chain = Chain(folder, answers, target, "lane", int(os.environ.get("SAME", "1")), expected)
    ask = CheckPart(name="ask", writes=True, steps=[
        CheckStep(get="/ask-for-seeds/"),
        CheckStep(submit="form[1]", fields={"field_1": "Ida", "field_2": "left after the cutover"},
            text="it has come in"),
    ])  # fmt: skip

    def visit() -> str:
        """A visitor asks for seeds by the form."""
        with Visitor(open_site(folder / "keenharbor.toml").address) as visitor:
            print("    a form was sent:", run_check(visitor, ask, tuple) or "as expected")
        return "left after the cutover"

    def remains(what: str) -> bool:
        with open_site(folder / "keenharbor.toml").reading_database() as state:
            return any(what in [str(v) for v in row] for row in state.rows("forms_fieldentry"))

    chain.visitor, chain.remains = visit, remains
    if "FAULTS" in os.environ:
        chain.faults = HERE / "faults.toml"
    chain.play_and_stop()


if __name__ == "__main__":
    main(*(Path(w).resolve() for w in sys.argv[1:4]), *sys.argv[4:])

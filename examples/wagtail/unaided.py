"""Wagtail 6.3 on Django 4.2 to 8.0 on 5.2, logged in: described, rehearsed, upgraded and brought back by answers alone.

    python unaided.py FOLDER OLD NEW [sqlite|postgres|mariadb]       (with the Python that Keen Harbor runs in)

OLD and NEW are folders of wheels (see README.md). The plan gets one step by hand: the site's own code must change with
the new release, which no tool can know."""

from __future__ import annotations

import json
import os
import shutil
import sys
from contextlib import ExitStack
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent)]

from chain import Chain  # noqa: E402
from play import DRIVERS, MEND, run  # noqa: E402

from keenharbor.clone.server import free_port  # noqa: E402
from keenharbor.database.private_server import PrivateServer  # noqa: E402

PASSWORD = "seed-seed-1"
WANTS = ("wagtail==6.3.*", "django==4.2.*", "setuptools")


def set_up(folder: Path, old: Path, new: Path, engine: str, url: str | None) -> None:
    """The live site, served."""
    run(sys.executable, "-m", "venv", "venv", folder=folder)
    python = folder / "venv/bin/python"
    run(python, "-m", "pip", "install", "-q", "--no-index", "-f", old, *WANTS, *DRIVERS[engine], folder=folder)
    run(python, HERE / "make_site.py", "lane", *([url] if url else []), folder=folder)
    (folder / "lane/requirements.txt").write_text("wagtail>=6.3,<7\ndjango<5\n")
    shutil.copytree(new, folder / "wheels")
    run(sys.executable, HERE / "make_site.py", "--addons", folder / "wheels", folder=folder)
    shutil.copy(HERE.parent / "host.py", folder)
    port = free_port()
    command = [str(python), "manage.py", "runserver", "--noreload", f"127.0.0.1:{port}"]
    web = {"command": command, "folder": str(folder / "lane"), "port": port, "signal": "SIGKILL"}
    (folder / "host.json").write_text(json.dumps({"web": web}))
    run(sys.executable, folder / "host.py", "start", folder=folder)


def main(folder: Path, old: Path, new: Path, engine: str = "sqlite") -> None:
    """Make the site, and play."""
    folder.mkdir(parents=True)
    os.environ["LANE_PASSWORD"] = PASSWORD
    with ExitStack() as running:
        url = None
        if engine != "sqlite":
            server = running.enter_context(PrivateServer.make(engine, folder / "server"))
            made = "CREATE DATABASE lane CHARACTER SET utf8mb4" if engine == "mariadb" else "CREATE DATABASE lane"
            server.run_sql(made)
            socket = Path(server.place.socket)
            url = f"{engine}://{server.place.user}@/lane?host={socket if engine == 'mariadb' else socket.parent}"
        set_up(folder, old, new, engine, url)
        address = f"http://127.0.0.1:{json.loads((folder / 'host.json').read_text())['web']['port']}"
        answers = {
            "address": address, "log-in": "editor", "password": "env:LANE_PASSWORD", "wheelhouse": "wheels",
            "reload": f"{sys.executable} {folder}/host.py web",
        }  # fmt: skip
        same = int(os.environ.get("SAME", "1"))
        chain = Chain(folder, answers, ("--core", "8.0.1", "--also", "Django=5.2"), "lane", same, {
            "schema-unlike": "it is looked into before going live",
            **dict.fromkeys(
                ("block-gone", "image-gone", "link-gone", "text-changed", "text-lost", "title-changed", "form-gone"),
                "the administration's new look",
            ),
        })  # fmt: skip
        python, lane = folder / "venv/bin/python", folder / "lane"

        def own_code(plan: Path) -> None:
            before, step, after = plan.read_text().partition('[[step]]\nname = "migrate"')
            plan.write_text(f"{before}{MEND}\n{step}{after}")

        def note() -> str:
            code = (
                "from wagtail.contrib.forms.models import FormSubmission; from wagtail.models import Page; "
                "FormSubmission.objects.create(page=Page.objects.last(), form_data={'words': 'left after it'})"
            )
            run(python, "manage.py", "shell", "-c", code, folder=lane)
            return "left after it"

        def remains(what: str) -> bool:
            code = (
                "from wagtail.contrib.forms.models import FormSubmission; "
                "print(*FormSubmission.objects.values_list('form_data', flat=True))"
            )
            return what in run(python, "manage.py", "shell", "-c", code, folder=lane)

        chain.visitor, chain.remains, chain.amend = note, remains, own_code
        if "FAULTS" in os.environ:
            chain.faults = HERE / "faults.toml"
        chain.play_and_stop()


if __name__ == "__main__":
    main(*(Path(w).resolve() for w in sys.argv[1:4]), *sys.argv[4:])

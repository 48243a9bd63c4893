"""A made-up site of Mezzanine 6.0 on Django 3.2.

    python make_site.py FOLDER OLD NEW [sqlite|mariadb]

OLD and NEW are folders of wheels, of Mezzanine 6.0 on Django 3.2 and of 6.1 on 4.2 (see README.md). In FOLDER: `venv/`,
`lane/` (the project), `wheels/`, `host.py`, which serves the site (`python host.py start|stop`), and its database. The
administrator is ``editor`` with the password ``seed-seed-1``."""

from __future__ import annotations

import json
import shutil
import socket
import subprocess
import sys
from pathlib import Path

PASSWORD = "seed-seed-1"
LOCAL = """
SECRET_KEY = "made-up-and-long-enough-for-an-example-of-a-garden"
NEVERCACHE_KEY = "made-up-too"
DEBUG = False
ALLOWED_HOSTS = ["*"]
DATABASES = {{
    "default": {{
        "ENGINE": "django.db.backends.{engine}",
        "NAME": {name},
        "USER": "{user}",
        "PASSWORD": "{password}",
        "HOST": "{host}",
        "PORT": "{port}",
    }}
}}
"""
FILL = """
from django.contrib.auth import get_user_model
from django.contrib.sites.models import Site
from mezzanine.blog.models import BlogPost
from mezzanine.conf.models import Setting
from mezzanine.forms.models import Field, Form
from mezzanine.pages.models import RichTextPage

editor = get_user_model().objects.create_superuser("editor", "editor@marrow-lane.example", "{password}")
Site.objects.update(domain="{domain}", name="Marrow Lane")
Setting.objects.create(name="SITE_TITLE", value="The Marrow Lane Seed Library")
for number, name in enumerate("Kale Leek Skirret Radish Bean Orache Medlar Quince".split()):
    BlogPost.objects.create(title=f"{{name}} in the lane", content=f"<p>{{name}} likes the wall.</p>", user=editor,
                            status=2, allow_comments=True)
    RichTextPage.objects.create(title=name, content=f"<p>How {{name}} is sown and kept.</p>", status=2)
form = Form.objects.create(title="Ask for seeds", content="<p>Ask.</p>", status=2, response="Thank you, it has come in.")
for order, (label, kind) in enumerate((("Your name", 1), ("What you want", 2))):
    Field.objects.create(form=form, label=label, field_type=kind, required=True, _order=order)
"""


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def run(*words: str | Path, folder: Path, text: str | None = None) -> None:
    ran = subprocess.run([*map(str, words)], cwd=folder, input=text, text=True, capture_output=True, check=False)
    if ran.returncode:
        sys.exit(f"{' '.join(map(str, words))}:\n{ran.stdout[-2000:]}\n{ran.stderr[-3000:]}")


def mariadb(home: Path, port: int) -> dict[str, object]:
    data = home / "database"
    run("mariadb-install-db", "--no-defaults", f"--datadir={data}", "--skip-test-db", "--user=root", folder=home)
    (home / "first.sql").write_text(
        "CREATE DATABASE lane CHARACTER SET utf8mb4;\n"
        "CREATE USER lane@'127.0.0.1' IDENTIFIED BY 'beans-and-peas';\n"
        "GRANT ALL ON lane.* TO lane@'127.0.0.1';\n"
        "CREATE USER lane@localhost IDENTIFIED BY 'beans-and-peas';\n"
        "GRANT ALL ON lane.* TO lane@localhost;\n"
    )
    command = [
        "mariadbd", "--no-defaults", f"--datadir={data}", f"--socket={home}/database.sock", f"--port={port}",
        "--bind-address=127.0.0.1", f"--pid-file={home}/server.pid", "--user=root", f"--init-file={home}/first.sql",
    ]  # fmt: skip
    return {"command": command, "folder": str(home), "port": port, "signal": "SIGTERM"}


def main(folder: Path, old: Path, new: Path, engine: str = "sqlite") -> None:
    """Make it, and start it."""
    folder.mkdir(parents=True)
    home, old = folder.resolve(), old.resolve()
    web, port = free_port(), free_port()
    run(sys.executable, "-m", "venv", "venv", folder=home)
    python = home / "venv/bin/python"
    wants = ("mezzanine==6.0.0", "django==3.2.*", "pymysql", "setuptools")
    run(python, "-m", "pip", "install", "-q", "--no-index", "-f", old, *wants, folder=home)
    shutil.copytree(new, home / "wheels")
    run(home / "venv/bin/mezzanine-project", "lane", folder=home)
    lane = home / "lane"
    said = {"engine": "sqlite3", "name": '"dev.db"', "user": "", "password": "", "host": "", "port": ""}
    facts: dict[str, object] = {}
    if engine == "mariadb":
        facts["database"] = mariadb(home, port)
        said = {
            "engine": "mysql", "name": '"lane"', "user": "lane", "password": "beans-and-peas", "host": "127.0.0.1",
            "port": str(port),
        }  # fmt: skip
        package = lane / "lane/__init__.py"
        package.write_text(
            "import pymysql\n\npymysql.version_info = (2, 2, 1, 'final', 0)\npymysql.install_as_MySQLdb()\n"
        )
    (lane / "lane/local_settings.py").write_text(LOCAL.format(**said))
    (lane / "requirements.txt").write_text("mezzanine==6.0.0\ndjango<4\n")
    shutil.copy(Path(__file__).resolve().parents[1] / "host.py", home)
    (home / "host.json").write_text(json.dumps(facts))
    run(sys.executable, home / "host.py", "start", folder=home)
    run(python, "manage.py", "migrate", "--noinput", folder=lane)
    code = FILL.format(password=PASSWORD, domain=f"127.0.0.1:{web}")
    run(python, "manage.py", "shell", folder=lane, text=f"exec({code!r})\n")
    run(python, "manage.py", "collectstatic", "--noinput", folder=lane)
    command = [str(python), "manage.py", "runserver", "--noreload", "--insecure", f"127.0.0.1:{web}"]
    facts["web"] = {"command": command, "folder": str(lane), "port": web, "signal": "SIGKILL"}
    (home / "host.json").write_text(json.dumps(facts, indent=1))
    run(sys.executable, home / "host.py", "start", folder=home)
    print(f"http://127.0.0.1:{web}/")


if __name__ == "__main__":
    main(*map(Path, sys.argv[1:4]), *sys.argv[4:])

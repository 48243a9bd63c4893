"""Make a small site of Wagtail to try upgrades on: some 40 made-up pages with pictures, and two add-ons with tables of
their own.

    python3 -m venv venv && venv/bin/pip install 'wagtail==6.3.*' 'django==5.1.*'
    venv/bin/python make_site.py site                              on SQLite
    venv/bin/python make_site.py site postgres://USER@/NAME?host=/run/postgresql      (needs psycopg)
    venv/bin/python make_site.py site mariadb://USER@/NAME?host=/run/mysqld/mysqld.sock      (needs pymysql)
    python3 make_site.py --addons wheels                           later releases of the add-ons, for a wheelhouse

The add-ons are built as wheels and installed into the environment that runs this.
"""

from __future__ import annotations

import base64
import hashlib
import os
import random
import subprocess
import sys
import zipfile
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

PLANTS = (
    "Long Tom carrot",
    "Marrow Lane bean",
    "Old Blue pea",
    "Winter leek",
    "Yellow Moon marrow",
    "Fern fennel",
    "Quay lettuce",
    "Red Lantern",
)

SETTINGS = '''"""Settings of the made-up site."""

{imports}from pathlib import Path

BASE_DIR = Path(__file__).resolve().parent.parent
SECRET_KEY = "{secret}"
DEBUG = True
ALLOWED_HOSTS = ["*"]
INSTALLED_APPS = [
    "home",
    "seed_notes",
    "seed_events",
    "wagtail.contrib.forms",
    "wagtail.contrib.redirects",
    "wagtail.embeds",
    "wagtail.sites",
    "wagtail.users",
    "wagtail.snippets",
    "wagtail.documents",
    "wagtail.images",
    "wagtail.search",
    "wagtail.admin",
    "wagtail",
    "modelcluster",
    "taggit",
    "django.contrib.admin",
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "django.contrib.staticfiles",
]
MIDDLEWARE = [
    "lane.maintenance.Maintenance",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "wagtail.contrib.redirects.middleware.RedirectMiddleware",
]
ROOT_URLCONF = "lane.urls"
TEMPLATES = [
    {{
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "APP_DIRS": True,
        "OPTIONS": {{
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "django.contrib.messages.context_processors.messages",
            ]
        }},
    }}
]
DATABASES = {{"default": {database}}}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
STATIC_URL = "/static/"
MEDIA_ROOT = BASE_DIR / "media"
MEDIA_URL = "/media/"
WAGTAIL_SITE_NAME = "Marrow Lane"
WAGTAILADMIN_BASE_URL = "http://127.0.0.1:8000"
EMAIL_HOST = "localhost"
EMAIL_PORT = 25
'''
MAINTENANCE = '''"""Keeps visitors out while a file is there; who sends what it holds is let through."""

from django.conf import settings
from django.http import HttpResponse

FLAG = settings.BASE_DIR / "maintenance.flag"


class Maintenance:
    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        try:
            word = FLAG.read_text()
        except FileNotFoundError:
            return self.get_response(request)
        if request.headers.get("X-Lane-Pass") == word:
            return self.get_response(request)
        return HttpResponse("The lane is being swept. Back soon.", status=503)
'''
URLS = """from django.conf import settings
from django.conf.urls.static import static
from django.urls import include, path
from wagtail import urls as pages
from wagtail.admin import urls as admin

urlpatterns = [
    path("admin/", include(admin)),
    *static(settings.MEDIA_URL, document_root=settings.MEDIA_ROOT),
    path("", include(pages)),
]
"""
MODELS = """from django import forms
from django.db import models
from wagtail.admin.panels import FieldPanel
from wagtail.fields import RichTextField
from wagtail.models import Page
from wagtail.telepath import register
from wagtail.widget_adapters import WidgetAdapter


class PlantPage(Page):
    body = RichTextField()
    picture = models.ForeignKey("wagtailimages.Image", null=True, blank=True, on_delete=models.SET_NULL, related_name="+")
    content_panels = [*Page.content_panels, FieldPanel("body"), FieldPanel("picture")]


class PlantPicker(forms.TextInput):
    \"\"\"A field with the names of plants. Its modules are elsewhere in Wagtail 8: what an upgrade breaks in a site's own code.\"\"\"


register(WidgetAdapter(), PlantPicker)
"""
TEMPLATE = """{% load wagtailcore_tags wagtailimages_tags %}<!doctype html><html><head><title>{{ page.title }}</title></head><body>
<h1>{{ page.title }}</h1>{% if page.picture %}{% image page.picture width-200 %}{% endif %}{{ page.body|richtext }}
<ul>{% for child in page.get_children.live %}<li><a href="{% pageurl child %}">{{ child.title }}</a></li>{% endfor %}</ul></body></html>
"""
FILL = """
import random
from io import BytesIO
from django.core.files.images import ImageFile
from PIL import Image as Picture
from wagtail.images.models import Image
from wagtail.models import Page, Site
from home.models import PlantPage
from seed_notes.models import Note
from seed_events.models import Event

chance = random.Random(3)
pictures = []
for number in range(6):
    made = BytesIO()
    Picture.new("RGB", (320, 240), tuple(chance.randrange(256) for _ in range(3))).save(made, "JPEG")
    made.name = f"plant{number}.jpg"
    pictures.append(Image.objects.create(title=f"plant {number}", file=ImageFile(made, name=made.name)))
root = Page.get_first_root_node()
Page.objects.filter(depth=2).delete()
root = Page.get_first_root_node()
home = root.add_child(instance=PlantPage(title="Marrow Lane", slug="home", body="<p>Seeds to lend.</p>"))
Site.objects.all().delete()
Site.objects.create(hostname="127.0.0.1", port=8000, root_page=home, is_default_site=True, site_name="Marrow Lane")
names = PLANTS
for number in range(40):
    name = f"{names[number % len(names)]} {number}"
    page = home.add_child(instance=PlantPage(title=name, slug=f"plant-{number}", body=f"<p>{name} likes the wall.</p>", picture=pictures[number % 6]))
    Note.objects.create(plant=name, words="grows well")
    Event.objects.create(title=f"Swap {number}", day=f"2027-{1 + number % 12:02d}-11")
from django.contrib.auth.models import User
User.objects.create_superuser("editor", "editor@lane.example", "seed-seed-1")
print(PlantPage.objects.count(), "pages")
"""
ADDONS = {
    "seed-notes": (
        "1.4.0",
        "class Note(models.Model):\n    plant = models.CharField(max_length=80)\n    words = models.TextField()\n",
    ),
    "seed-events": (
        "2.0.1",
        "class Event(models.Model):\n    title = models.CharField(max_length=80)\n    day = models.DateField()\n",
    ),
}


def wheel(folder: Path, name: str, version: str, requires: str, files: dict[str, str]) -> Path:
    """A wheel (https://packaging.python.org/en/latest/specifications/binary-distribution-format/) with these files."""
    module = name.replace("-", "_")
    info = f"{module}-{version}.dist-info"
    held = dict(files)
    held[f"{info}/METADATA"] = (
        f"Metadata-Version: 2.1\nName: {name}\nVersion: {version}\nSummary: Made up for the example\nAuthor: Maren "
        f"Tull\nRequires-Dist: {requires}\n"
    )
    held[f"{info}/WHEEL"] = "Wheel-Version: 1.0\nGenerator: make_site\nRoot-Is-Purelib: true\nTag: py3-none-any\n"
    record = ""
    for path, text in held.items():
        digest = base64.urlsafe_b64encode(hashlib.sha256(text.encode()).digest()).rstrip(b"=").decode()
        record += f"{path},sha256={digest},{len(text.encode())}\n"
    held[f"{info}/RECORD"] = record + f"{info}/RECORD,,\n"
    file = folder / f"{module}-{version}-py3-none-any.whl"
    with zipfile.ZipFile(file, "w") as archive:
        for path, text in held.items():
            archive.writestr(path, text)
    return file


NEWER = {
    "seed-notes": ("2.0.0", ADDONS["seed-notes"][1] + "    kept = models.BooleanField(default=True)\n"),
    "seed-events": ("2.1.0", ADDONS["seed-events"][1]),
}
FIRST_MIGRATION = """from django.db import migrations, models


class Migration(migrations.Migration):
    initial = True
    dependencies = []
    operations = [
        migrations.CreateModel(
            name="{model}",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                {fields}
            ],
        ),
    ]
"""
SECOND_MIGRATION = """from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("seed_notes", "0001_initial")]
    operations = [migrations.AddField("note", "kept", models.BooleanField(default=True))]
"""


def addons(wheels: Path) -> None:
    """The add-ons' later releases, which want Wagtail 7 or 8, as wheels in ``wheels``; seed-notes has a migration."""
    wheels.mkdir(parents=True, exist_ok=True)
    notes = '("plant", models.CharField(max_length=80)),\n                ("words", models.TextField()),'
    events = '("title", models.CharField(max_length=80)),\n                ("day", models.DateField()),'
    for name, (version, model) in NEWER.items():
        module = name.replace("-", "_")
        first = (
            FIRST_MIGRATION.format(model="Note", fields=notes)
            if name == "seed-notes"
            else FIRST_MIGRATION.format(model="Event", fields=events)
        )
        files = {
            f"{module}/__init__.py": "", f"{module}/models.py": f"from django.db import models\n\n\n{model}",
            f"{module}/migrations/__init__.py": "", f"{module}/migrations/0001_initial.py": first,
        }  # fmt: skip
        if name == "seed-notes":
            files[f"{module}/migrations/0002_note_kept.py"] = SECOND_MIGRATION
        wheel(wheels, name, version, "wagtail>=7,<9", files)


def database_settings(url: str | None) -> str:
    if url is None:
        return '{"ENGINE": "django.db.backends.sqlite3", "NAME": BASE_DIR / "db.sqlite3"}'
    parts = urlsplit(url)
    host = parts.hostname or parse_qs(parts.query).get("host", [""])[0]
    server = "mysql" if parts.scheme == "mariadb" else "postgresql"
    told = {
        "ENGINE": f"django.db.backends.{server}",
        "NAME": parts.path.lstrip("/"),
        "USER": parts.username or "",
        "PASSWORD": parts.password or "",
        "HOST": host,
    }
    return repr(told)


def make(site: Path, url: str | None) -> None:
    """Make the site in the folder ``site``, which must not exist."""
    site.mkdir(parents=True)
    for name, (version, model) in ADDONS.items():
        module = name.replace("-", "_")
        files = {
            f"{module}/__init__.py": "",
            f"{module}/models.py": f"from django.db import models\n\n\n{model}",
            f"{module}/migrations/__init__.py": "",
        }
        made = wheel(site, name, version, "wagtail>=6,<8", files)
        subprocess.run(
            [
                sys.executable,
                "-m",
                "pip",
                "install",
                "--quiet",
                "--no-index",
                "--no-deps",
                "--force-reinstall",
                str(made),
            ],
            check=True,
        )
        made.unlink()
    # Django's own words for a driver that is written in Python alone.
    of_mysql = (url or "").startswith("mariadb:")
    imports = "import pymysql\n\npymysql.install_as_MySQLdb()\n" if of_mysql else ""
    secret = random.Random(9).randbytes(20).hex()
    for path, text in {
        "lane/__init__.py": "",
        "lane/settings.py": SETTINGS.format(secret=secret, database=database_settings(url), imports=imports),
        "lane/urls.py": URLS, "lane/maintenance.py": MAINTENANCE,
        "home/__init__.py": "", "home/models.py": MODELS, "home/migrations/__init__.py": "",
        "home/templates/home/plant_page.html": TEMPLATE,
        "manage.py": "import os\nimport sys\n\nfrom django.core.management import execute_from_command_line\n\n"
        'os.environ.setdefault("DJANGO_SETTINGS_MODULE", "lane.settings")\nexecute_from_command_line(sys.argv)\n',
        "requirements.txt": "wagtail>=6.3,<6.4\ndjango>=5.1,<5.2\n",
    }.items():  # fmt: skip
        file = site / path
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text)
    environment = {**os.environ, "PYTHONDONTWRITEBYTECODE": "1"}
    for words in (
        ["makemigrations", "-v0", "home", "seed_notes", "seed_events"],
        ["migrate", "-v0"],
        ["shell", "-c", FILL.replace("PLANTS", repr(PLANTS))],
    ):
        subprocess.run([sys.executable, "manage.py", *words], cwd=site, check=True, env=environment)


if __name__ == "__main__" and sys.argv[1] == "--addons":
    addons(Path(sys.argv[2]))
elif __name__ == "__main__":
    make(Path(sys.argv[1]), sys.argv[2] if len(sys.argv) > 2 else None)

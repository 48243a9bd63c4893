"""Made-up sites of systems that nobody has heard of, in layouts that a seed picks. Not fitted to the code that reads
them: the pieces are what people are seen to do, put together by chance."""

from __future__ import annotations

import base64
import json
import random
import zlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import tomlkit
import yaml

from keenharbor.database import DatabasePlace

WORDS = (
    "almanac",
    "barrow",
    "cloche",
    "dibber",
    "fennel",
    "gantry",
    "hopper",
    "ledger",
    "mulch",
    "nursery",
    "orchard",
    "pergola",
    "trellis",
)
SECRET = "pw-Never-shown-71"


@dataclass
class MadeSite:
    """Where it is, and what is true of it."""

    root: Path
    family: str
    layout: str
    address: str
    core: str
    runtime: str
    extensions: dict[str, str]
    on: set[str]
    extension_folder: str
    themes: dict[str, str] = field(default_factory=dict)
    theme_folder: str | None = None
    database: DatabasePlace | None = None
    visitors: set[str] = field(default_factory=set)
    sessions: set[str] = field(default_factory=set)
    areas: dict[str, str] = field(default_factory=dict)
    settings_table: str | None = None
    scripts: list[str] = field(default_factory=list)
    secrets: tuple[str, ...] = (SECRET,)
    not_areas: dict[str, str] = field(default_factory=dict)
    passing: set[str] = field(default_factory=set)
    opaque_free: str | None = None
    active_theme: str | None = None


def put(root: Path, path: str, text: str | bytes) -> None:
    file = root / path
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_bytes(text.encode() if isinstance(text, str) else text)


def version(chance: random.Random) -> str:
    return f"{chance.randint(1, 9)}.{chance.randint(0, 12)}.{chance.randint(0, 9)}"


def serialised(value: Any) -> str:
    """PHP's form of a list or table of texts."""
    if isinstance(value, str):
        return f's:{len(value.encode())}:"{value}";'
    items = value.items() if isinstance(value, dict) else enumerate(value)
    inside = "".join((f"i:{k};" if isinstance(k, int) else serialised(k)) + serialised(v) for k, v in items)
    return f"a:{len(value)}:{{{inside}}}"


def quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


# -- metadata of extensions, in the forms that are met --------------------------------------------------------

Facts = Callable[[Path, str, str, str], None]


def as_header(root: Path, folder: str, name: str, number: str) -> None:
    title = name.replace("-", " ").title()
    put(
        root,
        f"{folder}/{name}.php",
        f"<?php\n/*\n * Extension Name: {title}\n * Version: {number}\n * Author: Maren Tull\n */\nfunction "
        f"f_{name.replace('-', '_')}() {{ unlink('x'); }}\n",
    )


def as_json(root: Path, folder: str, name: str, number: str) -> None:
    told = {
        "name": name,
        "title": name.title(),
        "version": number,
        "author": "Maren Tull",
        "requires": {"core": ">=1.0"},
    }
    put(root, f"{folder}/manifest.json", json.dumps(told, indent=1))
    put(root, f"{folder}/main.php", "<?php\nclass Main {}\n")


def as_ini(root: Path, folder: str, name: str, number: str) -> None:
    put(root, f"{folder}/{name}.info", "")
    put(root, f"{folder}/module.ini", f"[module]\nname = {name}\nversion = {number}\nauthor = Maren Tull\n")


def as_xml(root: Path, folder: str, name: str, number: str) -> None:
    put(
        root,
        f"{folder}/addon.xml",
        f'<?xml version="1.0"?>\n<addon><name>{name}</name><version>{number}</version><author>Maren '
        f"Tull</author></addon>",
    )


def as_yaml(root: Path, folder: str, name: str, number: str) -> None:
    put(root, f"{folder}/{name}.facts.yml", f"name: {name}\nsort: part\nversion: '{number}'\nauthor: Maren Tull\n")


def noise(root: Path, chance: random.Random) -> None:
    """What lies about in every site and must lead nobody astray."""
    put(root, "README.md", "Version 99.9 of the reader\n")
    put(
        root,
        "docs/config.sample.php",
        "<?php define('DB_NAME', 'sample'); define('DB_USER', 'sample'); define('DB_PASSWORD', 'x');\n",
    )
    put(root, "vendor/other/lib/composer.json", '{"name": "other/lib", "version": "77.7.7"}')
    put(
        root,
        "vendor/other/lib/src/Config.php",
        "<?php\nconst VERSION = '66.6.6'; $db = ['host' => 'h', 'user' => 'u', 'password' => 'p', 'name' => 'n'];\n",
    )
    put(root, "assets/jquery.json", '{"version": "3.7.1"}')
    for n in range(6):
        put(root, f"{('uploads', 'media/images')[n % 2]}/picture{n}.jpg", chance.randbytes(300))


# -- the first family: PHP on MariaDB -------------------------------------------------------------------------


def php_site(root: Path, seed: int, place: DatabasePlace) -> MadeSite:
    chance = random.Random(seed)
    names = chance.sample(WORDS, 5)
    extensions = {n: version(chance) for n in names[:4]}
    themes = {names[4]: version(chance), "plain": version(chance)}
    on = set(chance.sample(sorted(extensions), 2)) | {sorted(extensions)[0]}
    folder = chance.choice(("plugins", "shared/plugins", "modules", "addons", "app/extensions"))
    theme_folder = chance.choice(("themes", "shared/themes", "templates", "skins"))
    address = f"https://{chance.choice(WORDS)}-{seed}.example"
    number, prefix = version(chance), chance.choice(("", "st_", "x7_"))
    facts: Facts = chance.choice((as_header, as_json, as_ini, as_xml, as_yaml))
    noise(root, chance)
    for name, v in extensions.items():
        facts(root, f"{folder}/{name}", name, v)
    for name, v in themes.items():
        facts(root, f"{theme_folder}/{name}", name, v)
    put(root, "index.php", "<?php require 'includes/boot.php';\n")
    for n in range(12):
        put(root, f"includes/part{n}.php", f"<?php\nfunction part_{n}() {{ return {n}; }}\n")
    _php_version(root, chance, number)
    style = ("constants", "array", "variables", "class", "call", "dsn", "comment")[seed % 7]
    in_settings = style in ("array", "class", "variables") and chance.random() < 0.5
    listed_in_settings = style == "array" and not in_settings
    _php_settings(
        root, style, place, address if in_settings else None, prefix, sorted(on) if listed_in_settings else None
    )
    scripts, settings_table = _php_tables(
        chance, prefix, extensions, on, None if in_settings else address, listed_in_settings
    )
    put(root, "cache/page1.html", "x" * 40)
    put(root, "logs/error.log", "x\n")
    return MadeSite(
        root, "php", f"{style}, {facts.__name__}, {folder}", address, number, "php", extensions, on, folder, themes,
        theme_folder, place,
        {prefix + t for t in ("orders", "comments")}, {prefix + "sessions"},
        {"cache": "cache", "logs": "logs", "extensions": folder, "themes": theme_folder, "core": "includes"},
        settings_table, scripts,
    )  # fmt: skip


def _php_version(root: Path, chance: random.Random, number: str) -> None:
    chance.choice((
        lambda: put(root, "includes/release.php", f"<?php\n$core_version = '{number}';\n$schema_version = "
            f"48211;\n$least_php_version = '7.4.0';\n"),
        lambda: put(root, "includes/Kernel.php", f"<?php\nclass Kernel "
            f"{{ const VERSION = '{number}'; const API_VERSION = '1.9.9'; const MIN_PHP = '8.0.0'; }}\n"),
        lambda: put(root, "includes/defines.php", f"<?php\ndefine('SYSTEM_VERSION', '{number}');\ndefine('DB_VERSION', "
            f"'12.1');\n"),
        lambda: put(root, "VERSION", number + "\n"),
    ))()  # fmt: skip


def _php_settings(
    root: Path, style: str, place: DatabasePlace, address: str | None, prefix: str, on: Sequence[str] | None
) -> None:
    socket, name, user = place.socket, place.name, place.user
    if style == "constants":
        put(root, "site-config.php", f"<?php\ndefine('DB_NAME', '{name}');\ndefine( 'DB_USER', \"{user}\" "
            f");\ndefine('DB_PASSWORD', '{SECRET}');\n"
            f"define('DB_HOST', 'localhost:{socket}');\n$tables_begin_with = '{prefix}';\ndefine('SECRET_KEY', 'k');\n")  # fmt: skip
    elif style == "array":
        more = f"'site' => ['title' => 'Marrow Lane', 'url' => '{address}']," if address else ""
        listed = f"'extensions' => [{', '.join(repr(n) for n in on)}]," if on else ""
        put(root, "config/main.php", f"<?php\nreturn [\n 'database' => ['driver' => 'mysql', 'unix_socket' => "
            f"'{socket}', 'database' => '{name}',\n"
            f"  'username' => '{user}', 'password' => '{SECRET}', 'prefix' => '{prefix}'],\n {more}\n {listed}\n "
            f"'mail' => ['host' => 'mail.example', 'port' => 25],\n];\n")  # fmt: skip
    elif style == "variables":
        more = f"$conf['base_url'] = '{address}';" if address else ""
        put(root, "conf/settings.php", f"<?php\n$stores['main'] = array (\n 'database' => '{name}', 'username' => "
            f"'{user}', 'password' => '{SECRET}',\n"
            f" 'host' => 'localhost', 'unix_socket' => '{socket}', 'port' => '', 'driver' => 'mysql', 'prefix' => "
            f"'{prefix}');\n{more}\n")  # fmt: skip
    elif style == "class":
        more = f"public $public_url = '{address}';" if address else ""
        put(root, "site-settings.php", f"<?php\nclass SiteConfig "
            f"{{\n public $sitename = 'Marrow Lane';\n public $dbtype = 'mysqli';\n public $host = 'localhost:{socket}';\n"
            f" public $user = '{user}';\n public $password = '{SECRET}';\n public $db = '{name}';\n public $begin_with "
            f"= '{prefix}';\n {more}\n"
            " public $sender = 'a@b.example'; public $smtphost = 'mail.example'; public $smtpport = '25';\n}\n")  # fmt: skip
    elif style == "call":
        put(
            root,
            "includes/connect.php",
            f"<?php\n// opens the database\n$link = mysqli_connect('localhost:{socket}', '{user}', '{SECRET}', "
            f"'{name}');\n$prefix = '{prefix}';\n",
        )
    elif style == "dsn":
        put(
            root,
            "app/config.php",
            f"<?php\n$pdo = new PDO('mysql:unix_socket={socket};dbname={name};charset=utf8mb4', '{user}', "
            f"'{SECRET}');\n",
        )
    else:
        told = json.dumps(
            {"database": {"driver": "mysql", "socket": socket, "name": name, "user": user, "password": SECRET}},
            indent=1,
        )
        put(root, "config.php", f"<?php die('no access'); ?>\n<?php /*\n{told}\n*/\n")


def _php_tables(
    chance: random.Random, prefix: str, extensions: dict[str, str], on: set[str], address: str | None, listed: bool
) -> tuple[list[str], str]:  # fmt: skip
    settings, name, value = chance.choice(
        (
            ("options", "option", "chosen_value"),
            ("settings", "name", "value"),
            ("config", "config_key", "config_value"),
        )
    )
    rows = [
        ("site_title", "Marrow Lane"),
        ("admin_mail", "a@b.example"),
        ("widgets", serialised({"text": ["one", "two"]})),
    ]
    if address is not None:
        rows += [
            ("site_url", address),
            ("menu", serialised({"home": f"{address}/", "more": ["x"]})),
            ("blob", json.dumps({"u": f"{address}/a"}).replace("/", "\\/")),
        ]
    scripts = [f"CREATE TABLE {prefix}{settings} ({name} VARCHAR(60) PRIMARY KEY, {value} LONGTEXT)"]
    if not listed:
        kind = chance.choice(("serialised", "json", "table"))
        if kind == "table":
            scripts += [f"CREATE TABLE {prefix}extension_list (id INT PRIMARY KEY, name VARCHAR(40), enabled TINYINT)"]
            scripts += [
                f"INSERT INTO {prefix}extension_list VALUES ({n}, {quoted(e)}, {int(e in on)})"
                for n, e in enumerate(sorted(extensions))
            ]
        else:
            held = [f"{n}/{n}.php" for n in sorted(on)]
            rows.append(("enabled_parts", serialised(held) if kind == "serialised" else json.dumps(sorted(on))))
    scripts += [
        f"INSERT INTO {prefix}{settings} VALUES ({quoted(k)}, {quoted(v.replace(chr(92), chr(92) * 2))})"
        for k, v in rows
    ]
    scripts += [
        f"CREATE TABLE {prefix}pages (id INT PRIMARY KEY, title VARCHAR(90), body TEXT, created DATETIME)",
        f"INSERT INTO {prefix}pages VALUES (1, 'About', '<p>See {address or ''}/more</p>', '2024-01-01')",
        f"CREATE TABLE {prefix}orders (id INT PRIMARY KEY, email VARCHAR(60), total DECIMAL(8,2), created DATETIME)",
        f"CREATE TABLE {prefix}comments (id INT PRIMARY KEY, page INT, author_ip VARCHAR(40), body TEXT)",
        f"CREATE TABLE {prefix}sessions (sid VARCHAR(60) PRIMARY KEY, data TEXT, expires INT)",
        f"CREATE TABLE {prefix}users (id INT PRIMARY KEY, name VARCHAR(40), email VARCHAR(60), password VARCHAR(90), "
        f"created DATETIME)",
    ]
    return scripts, prefix + settings


# -- the second family: Python on PostgreSQL ------------------------------------------------------------------


def python_site(root: Path, seed: int, place: DatabasePlace) -> MadeSite:
    chance = random.Random(seed)
    core, frame, *names = chance.sample(WORDS, 6)
    extensions = {f"{core}-{n}": version(chance) for n in names[:3]}
    number, address = version(chance), f"https://{chance.choice(WORDS)}-{seed}.example"
    on = set(sorted(extensions)[:2])
    noise(root, chance)
    packages = f".venv/lib/python3.{chance.choice((11, 12))}/site-packages"
    put(root, ".venv/pyvenv.cfg", f"home = /usr/bin\nversion = {packages.split('python')[1].split('/')[0]}.4\n")
    distribution(root, packages, frame, version(chance), [frame], [])
    distribution(root, packages, core, number, [core], [f"{frame}>=1.0", "tool (>=1)"])
    distribution(root, packages, "tool", "1.2.3", ["tool"], [])
    for name, v in extensions.items():
        distribution(root, packages, name, v, [name.replace("-", "_")], [f"{core}>=1"])
    apps = [
        f"{core}.pages",
        f"{core}.users",
        core,
        *(n.replace("-", "_") for n in sorted(on)),
        f"{frame}.contrib.auth",
        f"{frame}.sessions",
        "site_home",
    ]
    put(root, "site_home/models.py", "class Page: ...\n")
    put(root, "manage.py", "import sys\nraise SystemExit('never run')\n")
    style = ("dict", "url", "env", "split")[seed % 4]
    base = (
        f"import os\nfrom pathlib import Path\nBASE_DIR = Path(__file__).resolve().parent.parent\n"
        f"open('/nowhere/harm', 'w')\nINSTALLED_APPS = {apps!r}\nSITE_NAME = 'Marrow Lane'\n"
    )
    parts = {"HOST": str(Path(place.socket).parent), "USER": place.user, "NAME": place.name, "PASSWORD": SECRET}
    if style in ("dict", "split"):
        inner = ", ".join(f"'{k}': {v!r}" for k, v in parts.items())
        told = (
            f"DATABASES = {{'default': {{'ENGINE': '{frame}.db.backends.postgresql', {inner}}}}}\nSITE_URL = "
            f"'{address}'\n"
        )
        if style == "dict":
            put(root, "conf/settings.py", base + told)
        else:
            put(root, "conf/settings/base.py", base)
            put(
                root,
                "conf/settings/production.py",
                "from .base import *\n" + told + "EMAIL_HOST = 'mail.example'\nEMAIL_PORT = 25\n",
            )
    else:
        url = f"postgresql://{place.user}:{SECRET}@/{place.name}?host={Path(place.socket).parent}"
        if style == "url":
            put(
                root,
                "conf/settings.py",
                base + f"DATABASES = {{'default': parse({url!r}, conn_max_age=60)}}\nSITE_URL = '{address}'\n",
            )
        else:
            put(root, "conf/settings.py", base + "DATABASE = os.environ['DATABASE_URL']\n")
            put(root, ".env", f"# secrets\nDATABASE_URL='{url}'\nSITE_URL={address}\nSECRET_KEY=xyz\n")
    scripts = [
        "CREATE TABLE pages_page (id int PRIMARY KEY, title text, body text)",
        f"INSERT INTO pages_page VALUES (1, 'Home', 'see {address}/about')",
        "CREATE TABLE shop_order (id int PRIMARY KEY, email text, created_at timestamptz)",
        "CREATE TABLE forms_formsubmission (id int PRIMARY KEY, form_data jsonb, submit_time timestamptz)",
        "CREATE TABLE site_session (session_key text PRIMARY KEY, session_data text, expire_date timestamptz)",
        "CREATE TABLE site_migrations (id int PRIMARY KEY, app text, name text)",
    ]  # fmt: skip
    return MadeSite(
        root, "python", f"{style}", address, number, "python", {n: v for n, v in extensions.items() if n in on}, on,
        packages,
        database=place, visitors={"shop_order", "forms_formsubmission"}, sessions={"site_session"},
        areas={"media": "uploads"}, scripts=scripts,
    )  # fmt: skip


def distribution(
    root: Path, packages: str, name: str, number: str, modules: Sequence[str], requires: Sequence[str]
) -> None:
    info = f"{packages}/{name.replace('-', '_')}-{number}.dist-info"
    asked = "".join(f"Requires-Dist: {r}\n" for r in requires)
    put(
        root, f"{info}/METADATA", f"Metadata-Version: 2.1\nName: {name}\nVersion: {number}\nSummary: Made up\n{asked}\n"
    )
    listed = []
    for module in modules:
        put(root, f"{packages}/{module}/__init__.py", "raise SystemExit('never run')\n")
        listed.append(f"{module}/__init__.py,,")
    put(root, f"{info}/RECORD", "\n".join(listed) + "\n")


# -- the third family: flat files, no database ----------------------------------------------------------------


def flat_site(root: Path, seed: int) -> MadeSite:
    chance = random.Random(seed)
    names = chance.sample(WORDS, 5)
    extensions = {n: version(chance) for n in names[:3]}
    themes = {names[3]: version(chance), names[4]: version(chance)}
    on = set(sorted(extensions)[:2])
    number, address = version(chance), f"https://{names[0]}-{seed}.example"
    noise(root, chance)
    style = ("yaml", "toml", "json", "ini")[seed % 4]
    folder, theme_folder = chance.choice(
        (("own/plugins", "own/themes"), ("extensions", "themes"), ("site/addons", "site/templates"))
    )
    for name, v in extensions.items():
        as_yaml(root, f"{folder}/{name}", name, v)
    for name, v in themes.items():
        as_yaml(root, f"{theme_folder}/{name}", name, v)
    put(root, "engine/limits.php", f"<?php\ndefine('LANE_VERSION', '{number}');\n")
    for n in range(5):
        put(root, f"engine/src/Part{n}.php", "<?php\nclass Part {}\n")
        put(root, f"content/page{n}.md", f"---\ntitle: Page {n}\n---\nSee {address}/p\n")
    put(root, "index.php", "<?php\n")
    put(root, "cache/a.html", "x")
    told: dict[str, Any] = {
        "site": {"title": "Marrow Lane", "base_url": address},
        "mail": {"host": "mail.example", "port": 25},
    }
    if style == "ini":
        lines = f"[site]\ntitle = Marrow Lane\nbase_url = {address}\n[plugins]\n" + "".join(
            f"{n} = {'on' if n in on else 'off'}\n" for n in extensions
        )
        put(root, "config/site.ini", lines)
    else:
        told["plugins"] = sorted(on) if style == "json" else {n: n in on for n in extensions}
        if style == "toml":
            put(root, "config/site.toml", tomlkit.dumps(told))
        else:
            put(root, f"config/site.{style}", yaml.safe_dump(told) if style == "yaml" else json.dumps(told, indent=2))
    return MadeSite(
        root, "flat", style, address, number, "php", extensions, on, folder, themes, theme_folder,
        areas={"cache": "cache", "extensions": folder, "themes": theme_folder, "core": "engine"},
    )  # fmt: skip


# -- the fourth family: PHP on SQLite, with what was met on sites that stopped the tool -----------------------


def as_meta(root: Path, folder: str, name: str, number: str) -> None:
    put(root, f"{folder}/{name}.meta", f"name = {name}\nversion = {number}\nauthor = Maren Tull\n")
    put(root, f"{folder}/{name}.php", "<?php\nclass Part {}\n")


def as_place(root: Path, folder: str, name: str, number: str) -> None:
    put(root, f"{folder}/start.php", "<?php\nclass Part {}\n")


def odd_site(root: Path, seed: int) -> MadeSite:
    """Libraries that look like the site (an address, caches and logs of code), extensions in folders of folders, by a
    file beside the code or by their place alone, themes of one file each, a version in a comment, settings in the
    database that pass, packed values, host and port in columns of their own, tables that belong to visitors' tables."""
    chance = random.Random(1000 + seed)
    names = chance.sample(WORDS, 8)
    number, address = version(chance), f"https://{chance.choice(WORDS)}-{seed}.example"
    put(root, "lib/reader/Reader.php", "<?php\nclass Reader { public $home_url = 'https://reader-library.example'; "
        "const VERSION = '9.9.9'; }\n")  # fmt: skip
    put(root, "lib/reader/Cache/Store.php", "<?php\nclass Store {}\n")
    put(root, "vendor/psr/Log/Logger.php", "<?php\nclass Logger { public $site_url = 'https://logger.example'; }\n")
    for n in range(9):
        put(root, f"system/part{n}.php", f"<?php\nfunction part_{n}() {{ return {n}; }}\n")
    put(root, "index.php", "<?php require 'system/part1.php';\n")
    put(root, "cron.php" if chance.random() < 0.5 else "system/cron.php", "<?php /* timed work */ part_1();\n")
    chance.choice((
        lambda: put(root, "system/version.php", f"<?php\n// {number}\n\nfunction v() {{ return 1; }}\n"),
        lambda: put(root, "system/release_info.php", f"<?php\n/*\n * Version: {number}\n */\n"),
        lambda: put(root, "release.txt", f"{number}\n"),
    ))()  # fmt: skip
    style = ("meta", "place", "mixed", "nested")[seed % 4]
    folder = chance.choice(("plugins", "addons", "shared/extensions"))
    extensions = {n: version(chance) for n in names[:4]}
    for at, (name, v) in enumerate(extensions.items()):
        facts: Facts = {
            "meta": as_meta, "place": as_place, "mixed": (as_json, as_header)[at % 2], "nested": as_json,
        }[style]  # fmt: skip
        facts(
            root, f"{folder}/{('maren', 'olle')[at % 2]}/{name}" if style == "nested" else f"{folder}/{name}", name, v
        )
    if style == "place":
        extensions = dict.fromkeys(extensions, "")
    on = set(sorted(extensions)[:2])
    theme_folder, themes = chance.choice(("themes", "skins")), {n: version(chance) for n in names[4:7]}
    for name, v in themes.items():
        put(root, f"{theme_folder}/{name}.css", f"/*\n Theme Name: {name}\n Version: {v}\n Author: Maren Tull\n*/\n"
            "body { color: black }\n")  # fmt: skip
    prefix = chance.choice(("", "sl_"))
    apart = seed % 3 == 0
    scripts, passing = _odd_tables(chance, prefix, on, names[4], address, apart)
    place = DatabasePlace("sqlite", root / "data/main.db")
    put(root, "config/site.php", "<?php\ndefine('DATABASE_FILE', __DIR__ . '/../data/main.db');\n"
        "define('RENDER_DIR', 'var/render');\ndefine('TABLES_BEGIN_WITH', '" + prefix + "');\n"
        f"define('SECRET_WORD', '{SECRET}');\n")  # fmt: skip
    put(root, "data/.htaccess", "Require all denied\n")
    for n in range(4):
        put(root, f"media/photo{n}.jpg", chance.randbytes(200))
        put(root, f"var/cache/page{n}.html", "<p>x</p>")
    put(root, "var/log/site.log", "x\n")
    return MadeSite(
        root, "odd", f"{style}, {'host and port' if apart else 'a setting'}", address, number, "php", extensions, on,
        folder, themes, theme_folder, place,
        {prefix + t for t in ("comments", "comment_meta", "comment_replies", "shelves")},
        {prefix + "sessions"},
        {"cache": "var/cache", "logs": "var/log", "extensions": folder, "themes": theme_folder, "media": "media",
            "core": "system", "settings": "config/site.php"},
        prefix + "options", scripts, not_areas={"cache": "lib/reader/Cache", "logs": "vendor/psr/Log"},
        passing=passing, opaque_free=prefix + "options", active_theme=names[4],
    )  # fmt: skip


def _odd_tables(
    chance: random.Random, prefix: str, on: set[str], theme: str, address: str, apart: bool
) -> tuple[list[str], set[str]]:
    rows = {
        "title": "Marrow Lane", "active_parts": json.dumps(sorted(on)), "theme": theme, "cache_enabled": "1",
        "last_cron_run": "1764230400", "cache_expires_menu": "1764230400", "cache_menu": "<ul></ul>",
        "page_of_the_day": base64.b64encode(
            zlib.compress(serialised({"home": f"{address}/", "more": "x" * 30}).encode())).decode(),
    }  # fmt: skip
    if not apart:
        rows["site_url"] = address
    scripts = [
        f"CREATE TABLE {prefix}options (option_name TEXT PRIMARY KEY, option_value TEXT)",
        *(f"INSERT INTO {prefix}options VALUES ({quoted(k)}, {quoted(v)})" for k, v in rows.items()),
        f"CREATE TABLE {prefix}pages (id INTEGER PRIMARY KEY, title TEXT, body TEXT)",
        f"INSERT INTO {prefix}pages VALUES (1, 'About', 'See {address}/more')",
        f"CREATE TABLE {prefix}comments (id INTEGER PRIMARY KEY, page INT, author_ip TEXT, body TEXT)",
        f"CREATE TABLE {prefix}comment_meta (id INTEGER PRIMARY KEY, comment_id INT, meta_key TEXT, meta_value TEXT)",
        f"CREATE TABLE {prefix}comment_replies (id INTEGER PRIMARY KEY, comment_id INT, body TEXT)",
        f"CREATE TABLE {prefix}sessions (sid TEXT PRIMARY KEY, data TEXT, expires INT)",
        f"CREATE TABLE {prefix}shelves (id INTEGER PRIMARY KEY, owner_uid INTEGER NOT NULL, title TEXT)",
        f"CREATE TABLE {prefix}notes (id INTEGER PRIMARY KEY, owner_id INTEGER, title TEXT)",
    ]
    if apart:
        scripts += [
            f"CREATE TABLE {prefix}sites (id INTEGER PRIMARY KEY, hostname TEXT, port INT, title TEXT)",
            f"INSERT INTO {prefix}sites VALUES (1, '{address.removeprefix('https://')}', 443, 'Marrow Lane')",
        ]
    return scripts, {"last_cron_run", "cache_expires_menu", "cache_menu"}

"""A made-up site of tt-rss as Debian ships it, and the release that follows.

    python make_site.py FOLDER [mariadb|postgres]

Fetches Debian's package with `apt-get download`. In FOLDER: `site/`, with schema 138; `next/`, the code of schema 140;
`host.py`, which serves the site (`python host.py start|stop`); and the database server of the site. A reader is
``gardener`` with the password ``seed-seed-1``; so is the administrator, ``admin``."""

from __future__ import annotations

import hashlib
import json
import random
import re
import shutil
import socket
import subprocess
import sys
from datetime import datetime, timedelta
from pathlib import Path

PACKAGES = ("tt-rss", "php-php-gettext", "phpqrcode", "php-psr-log")
OLD_SCHEMA, NEW_SCHEMA = 138, 140
PASSWORD = "seed-seed-1"
BACK = {
    "mariadb": "DROP TABLE ttrss_app_passwords; ALTER TABLE ttrss_feeds DROP COLUMN last_successful_update;",
    "postgres": "DROP TABLE ttrss_app_passwords; ALTER TABLE ttrss_feeds DROP COLUMN last_successful_update;",
}
STOPS = {"mariadb": "SIGTERM", "postgres": "SIGINT"}
PLANTS = ("Kale", "Leek", "Runner bean", "Red lantern", "Black radish", "Skirret", "Sea beet", "Good King Henry")
FEEDS = ("Marrow Lane notes", "The seed swap", "Wall fruit", "Slugs and other guests", "Weather on the allotment")
CONFIG = """<?php
	define('DB_TYPE', '{kind}');
	define('DB_HOST', '127.0.0.1');
	define('DB_PORT', '{port}');
	define('DB_USER', 'reader');
	define('DB_NAME', 'feeds');
	define('DB_PASS', '{password}');
	define('MYSQL_CHARSET', 'UTF8');

	define('SELF_URL_PATH', 'http://127.0.0.1:{web}/');
	define('SINGLE_USER_MODE', false);
	define('SIMPLE_UPDATE_MODE', false);
	define('PHP_EXECUTABLE', '{php}');
	define('LOCK_DIRECTORY', 'lock');
	define('CACHE_DIR', 'cache');
	define('ICONS_DIR', "feed-icons");
	define('ICONS_URL', "feed-icons");
	define('AUTH_AUTO_CREATE', true);
	define('AUTH_AUTO_LOGIN', true);
	define('FORCE_ARTICLE_PURGE', 0);
	define('ENABLE_REGISTRATION', true);
	define('REG_NOTIFY_ADDRESS', 'desk@marrow-lane.example');
	define('REG_MAX_USERS', 10);
	define('SESSION_COOKIE_LIFETIME', 86400);
	define('SMTP_FROM_NAME', 'Marrow Lane');
	define('SMTP_FROM_ADDRESS', 'desk@marrow-lane.example');
	define('DIGEST_SUBJECT', 'New from the lane');
	define('CHECK_FOR_UPDATES', false);
	define('ENABLE_GZIP_OUTPUT', false);
	define('PLUGINS', 'auth_internal, note, share');
	define('LOG_DESTINATION', '');
	define('CONFIG_VERSION', 26);
"""


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def fetch(folder: Path) -> Path:
    """Debian's package, unpacked."""
    folder.mkdir()
    subprocess.run(["apt-get", "download", "-q", *PACKAGES], cwd=folder, check=True, capture_output=True)
    for package in sorted(folder.glob("*.deb")):
        subprocess.run(["dpkg-deb", "-x", package, folder / "root"], check=True)
    return folder / "root/usr/share"


def code(share: Path, target: Path, schema: int) -> None:
    """The code of the release with that schema; what is linked from other packages becomes part of it."""
    www = share / "tt-rss/www"
    shutil.copytree(www, target, symlinks=True)
    for link in (p for p in [*target.iterdir(), *(target / "lib").iterdir(), *(target / "vendor").iterdir()]):
        if not link.is_symlink():
            continue
        link.unlink()
        other = {"gettext": share / "php/php-php-gettext", "phpqrcode": share / "phpqrcode", "Psr": share / "php/Psr"}
        if link.name in other:
            shutil.copytree(other[link.name], link)
    shutil.copytree(share / "tt-rss/schema", target / "schema")
    functions = target / "include/functions.php"
    text = functions.read_text()
    functions.write_text(text.replace("define('SCHEMA_VERSION', 140);", f"define('SCHEMA_VERSION', {schema});"))
    (target / "version_static.txt").write_text({OLD_SCHEMA: "20.12", NEW_SCHEMA: "21.02"}[schema] + "\n")
    if schema == OLD_SCHEMA:
        for number in range(OLD_SCHEMA + 1, NEW_SCHEMA + 1):
            for engine in ("mysql", "pgsql"):
                (target / f"schema/versions/{engine}/{number}.sql").unlink()


def sql_of(share: Path, engine: str) -> str:
    """Schema and content of the site, as it was with the old release."""
    name = "mysql" if engine == "mariadb" else "pgsql"
    schema = (share / f"tt-rss/schema/ttrss_schema_{name}.sql").read_text()
    chance = random.Random(7)
    digest = hashlib.sha256(f"saltsalt{PASSWORD}".encode()).hexdigest()
    rows = [
        f"UPDATE ttrss_users SET pwd_hash = 'MODE2:{digest}', salt = 'saltsalt' WHERE login = 'admin'",
        "INSERT INTO ttrss_users (login, pwd_hash, salt, access_level, email) "
        f"VALUES ('gardener', 'MODE2:{digest}', 'saltsalt', 0, 'gardener@marrow-lane.example')",
    ]
    number, began = 0, datetime(2026, 3, 1, 8)
    for owner in (1, 2):
        for at, feed in enumerate(FEEDS, 1):
            key = at + (owner - 1) * len(FEEDS)
            rows.append(
                "INSERT INTO ttrss_feeds (owner_uid, title, feed_url, icon_url, site_url, update_interval, "
                "last_updated)"
                f" VALUES ({owner}, '{feed}', 'http://127.0.0.1:9/{at}.xml', '', 'http://127.0.0.1:9/{at}', -1, "
                "'2026-03-01')"
            )
            for nth in range(12):
                number += 1
                plant, told = chance.choice(PLANTS), began + timedelta(hours=number)
                rows.append(
                    "INSERT INTO ttrss_entries (title, guid, link, updated, content, content_hash, date_entered, "
                    f"date_updated, num_comments, comments, author) VALUES ('{plant} in week {nth + 1}', 'g{number}', "
                    f"'http://127.0.0.1:9/{number}', '{told}', '<p>{plant} likes the wall, and the {feed} said so.</p>'"
                    f", 'h{number}', '{told}', '{told}', 0, '', 'Ida')"
                )
                rows.append(
                    "INSERT INTO ttrss_user_entries (ref_id, uuid, feed_id, owner_uid, tag_cache, label_cache, note) "
                    f"VALUES ({number}, '', {key}, {owner}, '', '', '')"
                )
    rows.append(f"UPDATE ttrss_version SET schema_version = {OLD_SCHEMA}")
    if engine == "mariadb":
        schema = "SET foreign_key_checks = 0;\n" + schema
    return schema + "\n" + ";\n".join(rows) + ";\n" + BACK[engine]


def mariadb(home: Path, port: int, password: str, sql: str) -> tuple[list[str], Path]:
    data, made = home / "database", home / "first.sql"
    root = ["--user=root"]
    subprocess.run(
        ["mariadb-install-db", "--no-defaults", f"--datadir={data}", "--skip-test-db", *root],
        check=True, capture_output=True,
    )  # fmt: skip
    made.write_text(
        "CREATE DATABASE feeds CHARACTER SET utf8mb4;\n"
        f"CREATE USER reader@'127.0.0.1' IDENTIFIED BY '{password}';\nGRANT ALL ON feeds.* TO reader@'127.0.0.1';\n"
        f"CREATE USER reader@localhost IDENTIFIED BY '{password}';\nGRANT ALL ON feeds.* TO reader@localhost;\n"
        f"USE feeds;\n{sql}"
    )
    command = [
        "mariadbd", "--no-defaults", f"--datadir={data}", f"--socket={home}/database.sock", f"--port={port}",
        "--bind-address=127.0.0.1", f"--pid-file={home}/server.pid", *root,
    ]  # fmt: skip
    running = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        client = ["mariadb", "--no-defaults", f"--socket={home}/database.sock", "--default-character-set=utf8mb4"]
        for _ in range(200):
            if subprocess.run([*client, "-e", "SELECT 1"], capture_output=True, check=False).returncode == 0:
                break
        with made.open("rb") as text:
            subprocess.run(client, stdin=text, check=True)
    finally:
        running.terminate()
        running.wait()
    return command, home


def postgres(home: Path, port: int, password: str, sql: str) -> tuple[list[str], Path]:
    programs = sorted(Path("/usr/lib/postgresql").glob("*/bin"))[-1]
    data, made = home / "database", home / "first.sql"
    data.mkdir()
    shutil.chown(data, "postgres")
    home.chmod(0o755)
    made.write_text(
        f"CREATE USER reader PASSWORD '{password}';\nCREATE DATABASE feeds OWNER reader;\n\\connect feeds\n"
        f"SET ROLE reader;\n{sql}"
    )
    as_other = ["setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"]
    subprocess.run(
        [*as_other, programs / "initdb", "-D", data / "cluster", "-U", "postgres", "-A", "trust", "-E", "UTF8"],
        check=True, capture_output=True, cwd=data,
    )  # fmt: skip
    (data / "cluster/pg_hba.conf").write_text("local all postgres trust\nlocal all all scram-sha-256\n"
                                              "host all all 127.0.0.1/32 scram-sha-256\n")  # fmt: skip
    command = [
        *as_other, str(programs / "postgres"), "-D", str(data / "cluster"), "-k", str(data), "-p", str(port),
        "-c", "listen_addresses=127.0.0.1",
    ]  # fmt: skip
    running = subprocess.Popen(command, cwd=data, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        client = [str(programs / "psql"), "-q", "-h", str(data), "-p", str(port), "-U", "postgres", "postgres"]
        for _ in range(200):
            if subprocess.run([*client, "-c", "SELECT 1"], capture_output=True, check=False).returncode == 0:
                break
        subprocess.run([*client, "-v", "ON_ERROR_STOP=1", "-f", str(made)], check=True, capture_output=True)
    finally:
        running.terminate()
        running.wait()
    return command, data


def main(folder: Path, engine: str = "mariadb") -> None:
    """Make it, and start it."""
    folder.mkdir(parents=True)
    home = folder.resolve()
    share = fetch(home / "debian")
    code(share, home / "site", OLD_SCHEMA)
    code(share, home / "next", NEW_SCHEMA)
    site, password = home / "site", "beans-and-peas"
    for place in ("lock", "feed-icons", "cache/images", "cache/upload", "cache/export", "cache/feeds", "cache/js"):
        (site / place).mkdir(parents=True, exist_ok=True)
    # tt-rss does not run for root; this user is not asked.
    php = home / "php"
    php.write_text('#!/bin/sh\nexec /usr/bin/php -d disable_functions=posix_getuid "$@"\n')
    php.chmod(0o755)
    port, web = free_port(), free_port()
    kind = {"mariadb": "mysql", "postgres": "pgsql"}[engine]
    (site / "config.php").write_text(CONFIG.format(kind=kind, port=port, password=password, web=web, php=php))
    sql = re.sub(r"(?m)^--.*$", "", sql_of(share, engine))
    command, place = {"mariadb": mariadb, "postgres": postgres}[engine](home, port, password, sql)
    facts = {
        "database": {"command": command, "folder": str(place), "port": port, "signal": STOPS[engine]},
        "web": {
            "command": [str(php), "-S", f"127.0.0.1:{web}"],
            "folder": str(site),
            "port": web,
            "signal": "SIGKILL",
        },
    }
    (home / "host.json").write_text(json.dumps(facts, indent=1))
    shutil.copy(Path(__file__).resolve().parents[1] / "host.py", home)
    subprocess.run([sys.executable, home / "host.py", "start"], check=True)
    print(f"http://127.0.0.1:{web}/")


if __name__ == "__main__":
    main(Path(sys.argv[1]), *sys.argv[2:])

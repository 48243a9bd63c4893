"""Migrations, nightly tasks, switching extensions."""

import loam
from core import rules


def done_version(work, owner):
    row = work.one("SELECT version FROM schema_versions WHERE owner = ?", owner)
    return row["version"] if row else 0


def note_version(work, owner, version):
    work.run("DELETE FROM schema_versions WHERE owner = ?", owner)
    work.run("INSERT INTO schema_versions (owner, version) VALUES (?, ?)", owner, version)


def migrate(site, owner):
    """Run what the owner's tables still lack. A migration may stop early and ask to be run again: exit code 1."""
    if owner != "core" and owner not in site.extensions:
        with site.engine.work() as work:
            work.run("INSERT INTO extensions (name, enabled) SELECT ?, 1 WHERE NOT EXISTS "
                     "(SELECT 1 FROM extensions WHERE name = ?)", owner, owner)  # fmt: skip
        site.load_extension(owner)
    steps = rules.MIGRATIONS if owner == "core" else site.migrations.get(owner, {})
    for version, step in sorted(steps.items()):
        with site.engine.work() as work:
            if done_version(work, owner) >= version:
                continue
        with site.engine.work() as work:
            left = step(work, site)
            if not left:
                note_version(work, owner, version)
        if left:
            print(f"{owner}: {left}")
            return 1
        print(f"{owner}: tables are at {version}")
    return 0


def nightly(site, today):
    day = today or loam.today()
    for name, task in site.nightly_tasks:
        try:
            print(f"{name}: {task(site, day)}")
        except Exception as error:
            site.log_error(f"nightly task {name}: {type(error).__name__}: {error}")
            print(f"{name}: failed: {error}")
    return 0


def switch(site, name, on):
    with site.engine.work() as work:
        if not work.one("SELECT name FROM extensions WHERE name = ?", name):
            print(f"there is no extension {name}")
            return 1
        work.run("UPDATE extensions SET enabled = ? WHERE name = ?", int(on), name)
    print(f"{name} is {'on' if on else 'off'}")
    return 0

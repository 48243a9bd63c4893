"""What `init` works out of sites that it has never heard of."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from conftest import harbor
from keenharbor.database import DatabasePlace, open_database
from keenharbor.database.private_server import PrivateServer
from keenharbor.site.load import open_site
from made_sites import SECRET, MadeSite, flat_site, php_site, python_site
from test_engines import COUNT, need, servers

__all__ = ["servers"]
SEEDS = range(7)


@dataclass
class Judged:
    """Fields that were right, those said to be not found, and those that were wrong, with how sure they were."""

    right: list[str]
    missing: list[str]
    wrong: dict[str, tuple[str, Any]]


def database_for(made: str, server: PrivateServer) -> DatabasePlace:
    """A new database whose user has a password."""
    name = f"made{next(COUNT)}"
    place = server.place.with_name(name)
    if server.engine == "postgres":
        server.run_sql(f"CREATE DATABASE {name}")
        return place
    with open_database(place).writing() as writer:
        writer.script(
            f"CREATE USER {name}@localhost IDENTIFIED BY '{SECRET}'; GRANT ALL ON {name}.* TO {name}@localhost"
        )
    return DatabasePlace(place.engine, socket=place.socket, name=name, user=name, password=SECRET)


def make(family: str, seed: int, root: Path, servers: dict[str, PrivateServer]) -> MadeSite:
    if family == "flat":
        return flat_site(root, seed)
    engine = "mariadb" if family == "php" else "postgres"
    need(engine)
    place = database_for(family, servers[engine])
    made = php_site(root, seed, place) if family == "php" else python_site(root, seed, place)
    with open_database(servers[engine].place.with_name(place.name)).writing() as writer:
        for script in made.scripts:
            writer.script(script)
    return made


def judge(made: MadeSite, folder: Path) -> Judged:
    """Run `init` and hold what it wrote against what is true."""
    ran = harbor(folder, "init", made.root, "--json", "--yes", code=None)
    assert ran.code in (0, 1), ran.err + ran.out
    told = {e["key"]: e for e in ran.json["entries"] if e["key"]}
    text = (folder / "keenharbor.toml").read_text()
    for secret in made.secrets:
        assert secret not in ran.out + ran.err + text, "a password got out"
    site = open_site(folder / "keenharbor.toml")
    model = site.model
    judged = Judged([], [], {})

    def field(name: str, key: str, right: bool, found: object) -> None:
        sure = told.get(key, {}).get("sure", "not found")
        if right:
            judged.right.append(name)
        elif sure == "not found" or found in (None, "", {}, set()):
            judged.missing.append(name)
        else:
            judged.wrong[name] = (sure, found)

    field("address", "site.address", site.address == made.address, site.address)
    field("core", "core", site.told_versions()[0] == made.core, site.told_versions()[0])
    field("runtime", "runtime", model.runtime.name == made.runtime, model.runtime.name)
    if made.database is None:
        field("no database", "database", site.database_place.engine == "none", site.database_place)
    else:
        place = site.database_place
        field("engine", "database", place.engine == made.database.engine, place.engine)
        field("database", "database", place.is_same_as(made.database), place)
        field("user", "database", place.user == made.database.user, place.user)
        field(
            "password", "database", made.family == "python" or place.password == made.database.password, "(a password)"
        )
    components = {c.name: c for c in site.components() if c.kind == "extension"}
    field("extension folder", "extensions", model.extensions is not None and model.extensions.folder == made.extension_folder,
          model.extensions and model.extensions.folder)  # fmt: skip
    field(
        "extensions",
        "extensions",
        {n: c.version for n, c in components.items()} == made.extensions,
        {n: c.version for n, c in components.items()},
    )
    on = {n for n, c in components.items() if c.on}
    field("switched on", "extensions.switch", on == made.on, on)
    if made.theme_folder is not None:
        themes = {c.name: c.version for c in site.components() if c.kind == "theme"}
        field("themes", "themes", themes == made.themes, themes)
    for area, path in made.areas.items():
        field(f"area {area}", f"areas.{area}", path in model.areas.get(area, []), model.areas.get(area))  # type: ignore[call-overload]
    if made.visitors:
        field(
            "visitor data",
            "visitor_data",
            set(model.visitor_data.tables) == made.visitors,
            set(model.visitor_data.tables),
        )
    if made.sessions:
        field("sessions", "volatile", made.sessions <= set(model.volatile.tables), set(model.volatile.tables))
    if made.settings_table:
        table = model.settings.table.table if model.settings and model.settings.table else None
        field("settings table", "settings.table", table == made.settings_table, table)
    return judged


@pytest.mark.parametrize("family", ["php", "python", "flat"])
def test_nearly_everything_is_worked_out_and_nothing_wrong_is_certain(
    family: str, tmp_path: Path, servers: dict[str, PrivateServer], record_property: Any
) -> None:
    right = total = 0
    faults = []
    for seed in SEEDS:
        folder = tmp_path / str(seed)
        made = make(family, seed, folder / "site", servers)
        judged = judge(made, folder)
        right += len(judged.right)
        total += len(judged.right) + len(judged.missing) + len(judged.wrong)
        faults += [f"{seed} ({made.layout}): {n} not found" for n in judged.missing]
        faults += [f"{seed} ({made.layout}): {n} is told as {v[1]!r}, {v[0]}" for n, v in judged.wrong.items()]
        assert not [n for n, (sure, _) in judged.wrong.items() if sure == "read"], faults
    record_property("right", f"{right} of {total}")
    assert not Path("/nowhere/harm").exists()
    assert right >= 0.95 * total, "\n".join(faults)

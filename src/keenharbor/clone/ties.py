"""Cutting every tie of a clone to live: addresses, folders, databases, mail, what would disturb a copy."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from urllib.parse import urlsplit

from keenharbor.base.durable import (
    PRIVATE_FOLDER,
    private_folder,
    write_durably,
    write_plain,
)
from keenharbor.base.errors import KeenHarborError
from keenharbor.clone.clone import Clone
from keenharbor.database import DatabasePlace, open_database
from keenharbor.database.rewrite import HostMove, Rewriter, places_left, rewrite_database
from keenharbor.site.load import database_place, database_settings_file
from keenharbor.site.settings import read_settings, values_in, with_value
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot
from keenharbor.snapshot.moved import address_forms, rewrite_files
from keenharbor.tree import Entry


def live_places(live: SiteView, snapshot: Snapshot | None = None) -> list[str]:
    """Everything by which the live site could be reached: address, host, folder, database."""
    addresses = {live.address} | ({snapshot.manifest.address} if snapshot else set())
    roots = {live.place, str(live.site_file.parent / live.model.site.root)}
    roots |= {snapshot.manifest.root} if snapshot else set()
    places = [*addresses, *(urlsplit(a).netloc for a in addresses), *roots, *live.database.marks]
    return sorted(set(places), key=len, reverse=True)


def rewriter_for(clone: Clone, snapshot: Snapshot, was_at: str | None) -> Rewriter:
    live, root = clone.live, clone.site.place
    table: dict[str, str] = {}
    if was_at is not None and was_at != clone.address:
        table |= address_forms(was_at, clone.address)
    own = clone.site.database_place.marks
    table |= {mark: (own or (mark,))[0] for mark in snapshot.database_place.marks}
    for place in live_places(live, snapshot):
        if place.startswith("http"):
            table |= address_forms(place, clone.address)
        elif place in live.database.marks:
            table[place] = (clone.site.database_place.marks or (place,))[0]
        elif place.startswith("/"):
            table[place] = root
    return Rewriter(table)


def cut_ties(clone: Clone, rewriter: Rewriter, concerned: Sequence[Entry], mail_port: int) -> None:
    files, left = rewrite_files(clone.site.tree, concerned, rewriter)
    opaque = [f"file {path}" for path in left]
    _point_settings(clone)
    database = open_database(clone.site.database_place)
    cells = rewrite_database(database, rewriter, HostMove.between(clone.live.address, clone.address))
    opaque += [f"cell {place}" for place in places_left(database, rewriter)]
    mail = clone.site.model.mail
    if mail is not None:
        part = clone.site.needed(clone.site.model.settings, "settings")
        settings_file = clone.site.named(part.file)
        text = settings_file.read_text()
        try:
            for key, value in ((mail.host, "127.0.0.1"), (mail.port, str(mail_port))):
                text = with_value(text, key, value, part.format, settings_file)
        except KeyError as missing:
            raise KeenHarborError(
                f"mail cannot be caught: the setting {missing} is not in the site's settings file", where=settings_file,
                advice="correct [mail] in the site file",
            ) from None  # fmt: skip
        clone.site.write_setting_text(part.file, text)
    clone.note(rewritten_files=dict(files), rewritten_cells=dict(cells), opaque=opaque)


def switch_off(clone: Clone) -> None:
    """Switch off the extensions that would disturb a copy. Raises `KeenHarborError` when that cannot be done."""
    wanted = clone.site.model.clone.switch_off
    command = clone.site.model.commands.switch_off
    names = [c.name for c in clone.site.components() if c.name in wanted and c.on] if wanted else []
    if not names:
        return
    if command is None:
        raise KeenHarborError(
            f"'{names[0]}' is to be off in clones, and the site file does not say how: 'switch_off' under [commands]",
            where=clone.site.site_file,
        )
    # The clone's code runs here for the first time: already in a network of its own.
    clone._close_off()
    try:
        for name in names:
            ran = clone.site.run(command, 120, prefix=clone.prefix, variables=clone.variables, name=name)
            if ran.code != 0:
                raise KeenHarborError(
                    f"'{name}' cannot be switched off in the clone: {ran.output.strip()[-200:]}", where=ran.command
                )
    finally:
        clone.stop()
    clone.note(switched_off=names)


_SENDMAIL = """#!{python} -IS
import os, sys, time
data = sys.stdin.buffer.read()
name = f"{{time.time_ns()}}-{{os.getpid()}}"
with open(os.path.join({outbox!r}, "." + name), "wb") as file:
    file.write(data)
os.rename(os.path.join({outbox!r}, "." + name), os.path.join({outbox!r}, name + ".eml"))
"""


def put_programs(clone: Clone) -> None:
    """A program for sending mail that keeps it, under the name by which such programs are looked for; for PHP in a
    settings file, too."""
    programs = private_folder(clone.folder / "programs")
    private_folder(clone.outbox)
    program, sessions = programs / "sendmail", private_folder(clone.folder / "tmp" / "sessions")
    write_durably(program, _SENDMAIL.format(python=sys.executable, outbox=str(clone.outbox)).encode(), PRIVATE_FOLDER)
    php = f'sendmail_path = "{program} -t -i"\nsession.save_path = "{sessions}"\n'
    write_plain(programs / "mail.ini", php.encode())


def _names_its_port(place: DatabasePlace) -> bool:
    return bool(place.kind.socket_name) and place.socket.rpartition(".")[2].isdigit()


def _host_for(place: DatabasePlace, now: str, has_socket: bool) -> str:
    """What the setting for the host is to hold: where it is the only place for a socket, its folder for clients that
    name that, or ``localhost:/PATH`` (the path alone where a path stands there now)."""
    if not place.socket or has_socket:
        return place.host
    if place.kind.socket_name:
        return str(Path(place.socket).parent)
    return place.socket if now.startswith("/") else f"localhost:{place.socket}"


def _point_settings(clone: Clone) -> None:
    """Let the clone's settings name its own database, and see that they do. One in a file has been rewritten as a path.

    Raises `KeenHarborError` where they cannot: the clone's code would work on live.
    """
    keys, place = clone.site.model.database.settings, clone.site.database_place
    if not place.on_server:
        return
    file, form = database_settings_file(clone.site.model, clone.site.named(""))
    if keys is not None:
        text = file.read_text()
        said = values_in(text, form, file)
        wanted = {
            keys.url: place.url, keys.host: _host_for(place, said.get(keys.host or "", ""), keys.socket in said),
            keys.port: str(place.port or "") or (place.socket.rpartition(".")[2] if _names_its_port(place) else ""),
            keys.socket: place.socket,
            keys.name: place.name, keys.user: place.user, keys.password: place.password,
        }  # fmt: skip
        for key, value in wanted.items():
            if key is not None and key in said:
                text = with_value(text, key, value, form, file)
        clone.site.write_setting_text(file.path, text)
        now = database_place(clone.site.model, clone.site.site_file.parent, clone.site.named(""))
        if now.is_same_as(place):
            return
    missing = (
        ""
        if keys is None or not place.socket or (keys.socket and keys.socket in read_settings(file, form))
        else ": a socket"
    )
    raise KeenHarborError(
        f"the clone's settings cannot be made to name its own database{missing}", where=file,
        advice="name the keys that say where the database is under [database.settings], and add those that the site's "
        "settings lack, empty",
    )  # fmt: skip

"""Cutting every tie of a clone to live: addresses, folders, databases, mail, what would disturb a copy."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from urllib.parse import urlsplit

from keenharbor.base.durable import (
    PRIVATE_FOLDER,
    private_folder,
    write_durably,
    write_plain,
)
from keenharbor.base.errors import KeenHarborError
from keenharbor.clone.clone import Clone
from keenharbor.database import DatabasePlace, DatabaseState, open_database
from keenharbor.database.rewrite import HostMove, Rewriter, rewrite_database
from keenharbor.site.connections import values_for
from keenharbor.site.load import database_place, database_settings_file
from keenharbor.site.model import DatabaseSettingsPart
from keenharbor.site.settings import read_settings
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


def cut_ties(
    clone: Clone, rewriter: Rewriter, concerned: Sequence[Entry], mail_port: int, holds: DatabaseState
) -> set[str]:
    """Rewrite its files and cells; returns the tables in which something was rewritten. Its database ``holds`` this
    state (or has other values only in the very cells that are rewritten)."""
    files, left = rewrite_files(clone.site.tree, concerned, rewriter)
    opaque = [f"file {path}" for path in left]
    _point_settings(clone)
    database = open_database(clone.site.database_place)
    move = HostMove.between(clone.live.address, clone.address)
    told = rewrite_database(database, rewriter, move, holds)
    opaque += [f"cell {place}" for place in sorted(told.left)]
    mail = clone.site.model.mail
    if mail is not None:
        part = clone.site.needed(clone.site.model.settings, "settings")
        settings_file = clone.site.named(part.file)
        try:
            clone.site.change_settings(part.file, part.format, {mail.host: "127.0.0.1", mail.port: str(mail_port)})
        except KeyError as missing:
            raise KeenHarborError(
                f"mail cannot be caught: the setting {missing} is not in the site's settings file", where=settings_file,
                advice="correct [mail] in the site file",
            ) from None  # fmt: skip
    clone.note(rewritten_files=dict(files), rewritten_cells=dict(told.cells), opaque=opaque)
    return {place.rpartition(".")[0] for place in told.cells}


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
    own = clone.folder / "tmp"
    php = f'sendmail_path = "{program} -t -i"\nsession.save_path = "{sessions}"\n' + "".join(
        f'{key} = "{own}"\n' for key in ("sys_temp_dir", "upload_tmp_dir", "opcache.lockfile_path")
    )
    write_plain(programs / "mail.ini", php.encode())


def _point_settings(clone: Clone) -> None:
    """Let the clone's settings name its own database, in the form in which they named live's, and see that they do. One
    in a file has been rewritten as a path.

    Raises `KeenHarborError` where they cannot: the clone's code would work on live.
    """
    model, place = clone.site.model, clone.site.database_place
    keys = model.database.settings
    if not place.on_server:
        return
    file, form = database_settings_file(model, clone.site.named(""))
    if keys is not None:
        said = read_settings(file, form)
        if _wants_a_port(keys, said, place):
            clone.take_database_port(place.kind.port if keys.port not in said and keys.url not in said else 0)
            place = clone.place_for_code
        clone.site.change_settings(file.path, form, values_for(keys, said, place))
        now = database_place(model, clone.site.site_file.parent, clone.site.named(""))
        if now.is_same_as(place):
            return
    lacking = keys is not None and place.socket and keys.host not in read_settings(file, form)
    raise KeenHarborError(
        "the clone's settings cannot be made to name its own database" + (": a host" if lacking else ""), where=file,
        advice="name the keys that say where the database is under [database.settings], and add those that the site's "
        "settings lack, empty",
    )  # fmt: skip


def _wants_a_port(keys: DatabaseSettingsPart, said: Mapping[str, str], place: DatabasePlace) -> bool:
    """Whether the settings can name a database on a socket only by host and port: URLs, which each library reads in its
    own way where sockets are concerned, and hosts that stand there as such."""
    if not place.socket or keys.socket in said:
        return False
    if keys.url in said:
        return True
    host = said.get(keys.host or "", "")
    return keys.host in said and not place.kind.socket_name and not host.startswith("/") and ":/" not in host

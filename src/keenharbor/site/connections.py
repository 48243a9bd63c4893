"""How sites write down where their database is, in one text: connection URLs, data source names, ``host:port``."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import parse_qs, quote, unquote, urlsplit

from keenharbor.base.errors import UsageError
from keenharbor.database import DatabasePlace
from keenharbor.database.kinds import engine_of, kind_of

if TYPE_CHECKING:
    from keenharbor.site.model import DatabaseSettingsPart

_URL = re.compile(r"([A-Za-z][A-Za-z0-9+.-]*)://")
_DSN = re.compile(r"([a-z]+\d?):", re.IGNORECASE)


def split_host(text: str) -> tuple[str, str, str]:
    """Host, port and socket of ``host``, ``host:port``, ``host:/path/of.sock``, ``[v6]:port`` or a socket's path."""
    text = text.strip()
    if text.startswith("/"):
        return "", "", text
    if found := re.fullmatch(r"\[([^\]]+)\](?::(\d+))?", text):
        return found[1], found[2] or "", ""
    host, colon, rest = text.partition(":")
    if not colon or ":" in rest:
        return text, "", ""
    if rest.startswith("/"):
        return "", "", rest  # the host says no more than that the server is here
    return (host, rest, "") if rest.isdigit() else (text, "", "")


def server_place(
    engine: str, host: str, port: str, socket: str, name: str, user: str = "", password: str = ""
) -> DatabasePlace:  # fmt: skip
    """A database on a server, from what settings say of it. Clients of some engines name the folder of the socket."""
    number, kind = int(port) if port.isdigit() else 0, kind_of(engine)
    if socket and kind.socket_name and kind.socket_name.format("") not in socket:
        socket = f"{socket.rstrip('/')}/{kind.socket_name.format(number or kind.port)}"
    return DatabasePlace(engine, None, host or ("" if socket else "localhost"), number, socket, name, user, password)


def place_of_text(text: str, root: Path, user: str = "", password: str = "") -> DatabasePlace | None:
    """The place that a connection URL or a data source name stands for; None when it is neither. Paths that do not
    begin at the root of the file system begin at ``root``; ``user`` and ``password`` are for texts that name none."""
    text = text.strip()
    if found := _URL.match(text):
        engine = engine_of(found[1].partition("+")[0])
        if engine is None:
            return None
        try:
            if kind_of(engine).is_file:
                path = unquote(text[found.end() :].partition("?")[0])
                # Three slashes name a path from here, four one from the root of the file system; so do most libraries.
                if path.startswith("//"):
                    path = "/" + path.lstrip("/")
                elif path.startswith("/") and not Path(path).exists():
                    path = path[1:]
                return DatabasePlace(engine, root / path) if path.strip("/") and ":memory:" not in path else None
            parts = urlsplit(f"{engine}://{text[found.end() :]}")
            asked = parse_qs(parts.query)
            sockets = [*asked.get("socket", []), *asked.get("unix_socket", []), *asked.get("host", [])]
            socket = next((s for s in sockets if s.startswith("/")), "")
            place = DatabasePlace.from_url(
                parts._replace(query=f"socket={quote(socket)}" if socket else "").geturl(), password
            )
        except (UsageError, ValueError):
            return None
        user, password = place.user or user, place.password or password
        return server_place(engine, place.host, str(place.port or ""), place.socket, place.name, user, password)
    if found := _DSN.match(text):
        engine, rest = engine_of(found[1]), text[found.end() :]
        if engine is not None and kind_of(engine).is_file:
            return DatabasePlace(engine, root / rest) if rest and rest != ":memory:" else None
        said = dict(p.strip().split("=", 1) for p in re.split(r"[; ]", rest) if "=" in p)
        if engine is None or not said.get("dbname"):
            return None
        host, port, socket = split_host(said.get("host", ""))
        port, socket = said.get("port", port), said.get("unix_socket", socket)
        return server_place(
            engine, host, port, socket, said["dbname"], said.get("user", user), said.get("password", password)
        )  # fmt: skip
    return None


_OF_SOCKETS = ("socket", "unix_socket", "host", "unix_sock")


def text_of_place(now: str, place: DatabasePlace) -> str:
    """A connection URL or data source name, as it stands ``now``, for a server's database at ``place``: with its own
    scheme and options, but for those that name a socket."""
    now = now.strip()
    if found := _URL.match(now):
        rest, _, query = now[found.end() :].partition("?")
        before_name = rest.partition("/")[0]
        user = quote(place.user, safe="") + (f":{quote(place.password, safe='')}" if place.password else "")
        who = f"{user}@" if place.user and ("@" in before_name or place.password) else ""
        where = place.host + (f":{place.port}" if place.port else "")
        kept = [p for p in query.split("&") if p and p.partition("=")[0] not in _OF_SOCKETS]
        if place.socket:
            kept.append(f"unix_socket={quote(place.socket)}")
        options = f"?{'&'.join(kept)}" if kept else ""
        return f"{found[0]}{who}{where}/{quote(place.name, safe='')}{options}"
    if found := _DSN.match(now):
        separator = ";" if ";" in now else " " if " " in now else ";"
        said = [p.partition("=")[::2] for p in re.split(r"[; ]", now[found.end() :]) if "=" in p]
        own = {"host": place.host, "port": str(place.port or ""), "dbname": place.name}
        own |= {"unix_socket": place.socket} if place.socket else {}
        own |= {k: v for k, v in (("user", place.user), ("password", place.password)) if k in dict(said)}
        kept = [f"{k}={own.pop(k, v)}" for k, v in said if k in own or k not in (*_OF_SOCKETS, "port")]
        kept += [f"{k}={v}" for k, v in own.items() if v]
        return found[0] + separator.join(p for p in kept if not p.endswith("="))
    return place.url


def host_of_address(text: str) -> str | None:
    """Host and port of an ``http`` address; None when ``text`` is none."""
    if not re.match(r"https?://[^/\s]", text, re.IGNORECASE):
        return None
    try:
        return urlsplit(text).netloc.rpartition("@")[2].lower() or None
    except ValueError:
        return None


def values_for(keys: DatabaseSettingsPart, said: Mapping[str, str], place: DatabasePlace) -> dict[str, str]:
    """The values of those keys that the settings have, for a database at ``place``."""
    host, port = place.host, str(place.port or "")
    stood = said.get(keys.host or "", "")
    if place.socket and keys.socket not in said:
        if place.kind.socket_name:  # its clients name the folder
            host, port = str(Path(place.socket).parent), place.socket.rpartition(".")[2]
        else:
            host = place.socket if stood.startswith("/") else f"localhost:{place.socket}"
    elif keys.port not in said and place.port and _says_port(stood):
        host = f"{place.host}:{place.port}"
    socket, mark = place.socket, place.kind.socket_name.format("")
    if socket and mark and mark not in said.get(keys.socket or "", ""):
        socket = str(Path(socket).parent)  # as it stood: by its folder alone
    wanted = {
        keys.url: text_of_place(said.get(keys.url or "", ""), place), keys.host: host, keys.port: port,
        keys.socket: socket, keys.name: place.name, keys.user: place.user, keys.password: place.password,
    }  # fmt: skip
    return {key: value for key, value in wanted.items() if key is not None and key in said}


def _says_port(host: str) -> bool:
    return bool(split_host(host)[1])

"""Putting a maintenance gate into live's own files, and taking it out: tried on a clone before."""

from __future__ import annotations

import difflib
import posixpath
from dataclasses import dataclass

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.progress import Progress
from keenharbor.clone.mailbox import Mailbox
from keenharbor.clone.making import make_clone
from keenharbor.clone.server import free_port
from keenharbor.compare import Visitor
from keenharbor.compare.visitor import VisitError
from keenharbor.host.webserver import PrivateWebServer, WebServerKind
from keenharbor.live.flag import reload_host
from keenharbor.live.journal import exclusive
from keenharbor.live.snapshots import take_guarded
from keenharbor.site.gates import Gate
from keenharbor.site.load import live_database_place
from keenharbor.site.view import SiteView
from keenharbor.site.writable import Writable
from keenharbor.snapshot import TakeOptions
from keenharbor.store import Store

_WORD = "let-me-through"


@dataclass(frozen=True)
class GateChange:
    """What changes in each file, by path: the text before and behind."""

    contents: dict[str, tuple[bytes, bytes]]

    def shown(self) -> str:
        """As one unified difference."""
        lines: list[str] = []
        for path, (old, new) in self.contents.items():
            before, after = (t.decode("utf-8", "replace").splitlines(keepends=True) for t in (old, new))
            lines += difflib.unified_diff(before, after, f"a/{path}", f"b/{path}")
        return "".join(lines)


def gate_change(site: SiteView, gate: Gate, *, out: bool = False) -> GateChange:
    """What putting the gate in (or taking it ``out``) comes to."""
    changes: dict[str, tuple[bytes, bytes]] = {}
    for path in gate.files:
        old = _content(site, path)
        new = gate.take_out(old) if out else gate.put_into(path, old)
        if new != old:
            changes[path] = (old, new)
    return GateChange(changes)


def try_gate(site: SiteView, store: Store, gate: Gate, progress: Progress) -> None:
    """Put it into a clone, and see that it keeps visitors out while the flag stands, and only then. Raises
    `KeenHarborError`."""
    snapshot = take_guarded(site, store, TakeOptions(reason="before a trial"), progress)
    progress.stage("trying it on a clone")
    with Mailbox() as mailbox:
        clone = make_clone(site, snapshot, "a maintenance gate", mail_port=mailbox.port)
        try:
            with clone:
                start = clone.site.model.look.starts[0]
                before = _status(clone.address, start)
                # What stands in the clone's own files: live's would lead it back to live.
                _write(clone.site, gate_change(clone.site, gate))
                clone.restart()
                _expect(_status(clone.address, start), before, "with the gate, the clone does not answer as before")
                clone.site.tree.write(gate.flag, _WORD.encode(), 0o644)
                _expect(_status(clone.address, start), 503, "the flag stands, and the clone goes on answering visitors")
                _expect(_status(clone.address, start, {gate.header: _WORD}), before, "the flag lets nobody through")
        finally:
            clone.drop()


def try_rules(gate: Gate, change: GateChange, progress: Progress) -> None:
    """Put a web server's rules before a private one, and see the same. The rest of the file they stand in is tried with
    them where this machine's server knows it, and left out where not. Raises `KeenHarborError`."""
    (path,) = gate.files
    kind: WebServerKind = "apache" if gate.language == "apache" else "nginx"
    name, flag = posixpath.basename(path), posixpath.basename(gate.flag)
    old, new = change.contents.get(path, (b"", gate.put_into(path, b"")))
    progress.stage(f"trying it on a private {kind}")
    included = name if kind == "nginx" else None
    with PrivateWebServer(kind, free_port(), included) as server:
        for rest in dict.fromkeys((old, b"")):
            server.place(name, rest)
            server.start()
            before = _status(server.address, "/")
            server.stop()
            if before < 500:
                break
        server.place(name, new if rest == old else gate.put_into(path, b""))
        server.start()
        _expect(_status(server.address, "/"), before, "with the gate, the web server does not answer as before")
        server.place(gate.pass_file(_WORD).removeprefix(gate.flag.removesuffix(flag)), b"")
        server.place(flag, _WORD.encode())
        _expect(_status(server.address, "/"), 503, "the flag stands, and the web server goes on answering visitors")
        _expect(
            _status(server.address, "/", {gate.header: "another"}),
            503,
            "a word that is not the flag's lets one through",
        )
        _expect(_status(server.address, "/", {gate.header: _WORD}), before, "the flag lets nobody through")


def _expect(status: int, wanted: int, problem: str) -> None:
    if status != wanted:
        raise KeenHarborError(f"the gate does not work: {problem} (status {status}); live was not touched")


def _status(address: str, path: str, headers: dict[str, str] | None = None) -> int:
    with Visitor(address, headers or {}) as visitor:
        try:
            return visitor.get(path).status
        except VisitError as error:
            raise KeenHarborError(
                f"what the gate is tried on does not answer: {error}; live was not touched", where=address
            ) from error


def _content(site: SiteView, path: str) -> bytes:
    """What stands in a file; nothing where it is not there."""
    file = site.path(path)
    return file.read_bytes() if file.is_file() else b""


def _write(site: Writable, change: GateChange) -> None:
    """A file of which nothing is left was the gate's own."""
    for path, (_, new) in change.contents.items():
        if new:
            site.tree.write(path, new)
        else:
            site.tree.remove(path)


def write_gate(site: SiteView, change: GateChange) -> None:
    """Change live's files, and let its host take that up."""
    with exclusive(site, doing="a maintenance gate"):
        live = Writable.of(site, site.place, live_database_place(site))
        for path, (old, _) in change.contents.items():
            if _content(site, path) != old:
                raise KeenHarborError("this file has changed meanwhile; nothing was written", where=path)
        _write(live, change)
        live.tree.sync()
    reload_host(site)

"""The maintenance flag of live, and letting its host take up changes."""

from __future__ import annotations

from pathlib import PurePosixPath

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.host.writing import is_leftover
from keenharbor.site.view import SiteView
from keenharbor.site.writable import Writable

RELOAD_SECONDS = 60
MOVED = "moved"
"""With this begins the flag's text in a place from which the site has moved away."""


def flag_path(site: SiteView) -> str:
    """Where the flag stands in the tree. Raises `UsageError` where the site file does not say."""
    return site.needed(site.model.maintenance, "maintenance").flag


def maintenance_on(site: Writable, token: str) -> None:
    """Lock visitors out; a request with the token in the flag's header is let through."""
    gate = site.gate
    if gate is not None and gate.by_name:  # first, so that there is no moment at which the tool itself is kept out
        site.tree.write(gate.pass_file(token), b"", 0o644, durable=True)
    # Readable by the web server, which may run as another user.
    site.tree.write(flag_path(site), token.encode(), 0o644, durable=True)


def maintenance_off(site: Writable) -> None:
    """Let visitors in again. Raises `KeenHarborError` when the flag stands all the same."""
    flag, gate = flag_path(site), site.gate
    site.tree.remove(flag)
    # What a run that was killed while it wrote the flag has left beside it, and what let the tool through.
    folder, name = flag.rpartition("/")[0], PurePosixPath(flag).name
    passes = gate is not None and gate.by_name
    for beside in site.files.names(folder) if site.files.look(folder) is not None else ():
        left = beside.startswith(f".{name}.") and is_leftover(beside)
        if left or (passes and beside.startswith(f"{name}.")):
            site.tree.remove(f"{folder}/{beside}" if folder else beside)
    if site.files.look(flag) is not None:
        raise KeenHarborError("the maintenance flag cannot be removed", where=f"{site.place}/{flag}")


def flag_text(site: SiteView) -> str | None:
    """What the flag says; None where there is none, or where the site file names none."""
    if site.model.maintenance is None:
        return None
    try:
        with site.files.open(site.model.maintenance.flag) as file:
            return file.read(1000).decode("utf-8", "replace").strip()
    except OSError:
        return None if site.files.look(site.model.maintenance.flag) is None else ""


def pass_header(site: SiteView, token: str) -> dict[str, str]:
    """The header that lets a request through maintenance."""
    return {site.needed(site.model.maintenance, "maintenance").header: token}


def refuse_without_reload(site: SiteView) -> None:
    """Raise `UsageError` where the command that `reload_host` runs can never be run: before anything is begun."""
    if site.model.live.reload is not None and not site.host.programs.can_run:
        raise UsageError(
            "by file transfer alone the site's host cannot be told to take up changes", where=site.site_file,
            advice="take 'reload' out of [live], if the host takes up changed files by itself; else let a shell and "
            "Python be there for this user",
        )  # fmt: skip


def reload_host(site: SiteView) -> None:
    """Let the host take up changed code, by the site file's command. Raises `KeenHarborError` when it fails."""
    command = site.model.live.reload
    if command is None:
        return
    ran = site.host.programs.run(
        command,
        folder=str(site.site_file.parent) if site.host.is_here else site.place,
        time_limit=RELOAD_SECONDS,
        environment=site.host.programs.variables(),
    )
    if ran.code != 0:
        raise KeenHarborError(
            f"the host did not take up the change: {ran.output.strip()[-300:] or 'no reason given'}",
            where=ran.command,
            advice="see to it that the site's host runs, then type the command again",
        )

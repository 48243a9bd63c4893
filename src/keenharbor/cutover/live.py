"""Writing to the live site: the maintenance flag, putting a snapshot back, letting the host take up changes."""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Callable, Iterable, Iterator, Mapping, Set
from typing import NoReturn

from keenharbor.base.durable import write_durably
from keenharbor.base.errors import KeenHarborError, PutBackError, UnsettledError
from keenharbor.base.process import clean_environment, run_program
from keenharbor.base.progress import Progress
from keenharbor.cutover.environments import environment_back
from keenharbor.cutover.journal import close_journal
from keenharbor.database import DatabaseWriter, open_database
from keenharbor.site.log import append_log
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, TakeOptions
from keenharbor.snapshot.manifest import read_snapshot
from keenharbor.snapshot.take import rules_of
from keenharbor.store import Store
from keenharbor.tree import Entry, RestoreCount, restore_tree
from keenharbor.tree.restore import clear_folder
from keenharbor.tree.scan import Hashing, read_content

RELOAD_SECONDS = 60


def new_token() -> str:
    """What lets a request through maintenance."""
    return secrets.token_hex(12)


def maintenance_on(site: SiteView, token: str) -> None:
    """Lock visitors out; a request with the token in the flag's header is let through."""
    flag = site.root / site.needed(site.model.maintenance, "maintenance").flag
    flag.parent.mkdir(parents=True, exist_ok=True)
    # Readable by the web server, which may run as another user.
    write_durably(flag, token.encode(), mode=0o644)


def maintenance_off(site: SiteView) -> None:
    """Let visitors in again."""
    flag = site.root / site.needed(site.model.maintenance, "maintenance").flag
    flag.unlink(missing_ok=True)
    # What a run that was killed while it wrote the flag has left beside it.
    for part in flag.parent.glob(f".{flag.name}.*.part"):
        part.unlink(missing_ok=True)


@contextlib.contextmanager
def locked_out(site: SiteView, token: str, progress: Progress) -> Iterator[None]:
    """Visitors are locked out from here on; an error within the block lets them in again, and nothing is left to settle.

    The host is reloaded, so that a request which came in just before does not write after the safety snapshot. That of
    a broken site may not do it, which must not keep it from going back.
    """
    try:
        progress.stage("maintenance on")
        maintenance_on(site, token)
        with contextlib.suppress(KeenHarborError):
            reload_host(site)
        yield
    except BaseException:
        maintenance_off(site)
        close_journal(site)
        raise


def pass_header(site: SiteView, token: str) -> dict[str, str]:
    """The header that lets a request through maintenance."""
    return {site.needed(site.model.maintenance, "maintenance").header: token}


def reload_host(site: SiteView) -> None:
    """Let the host take up changed code, by the site file's command. Raises `KeenHarborError` when it fails."""
    command = site.model.live.reload
    if command is None:
        return
    ran = run_program(
        command,
        folder=site.site_file.parent,
        time_limit=RELOAD_SECONDS,
        environment=clean_environment(),
    )
    if ran.code != 0:
        raise KeenHarborError(
            f"the host did not take up the change: {ran.output.strip()[-300:] or 'no reason given'}",
            where=ran.command,
            advice="see to it that the site's host runs, then type the command again",
        )


Trees = tuple[dict[str, Entry], dict[str, Entry]]
"""What a snapshot holds, and what live holds now of it, read."""


def differing_tree(site: SiteView, snapshot: Snapshot, chosen: Callable[[Entry], bool] | None = None) -> Trees:
    """What ``snapshot`` holds and what live holds now: all but caches and logs, or what is ``chosen``."""
    same_rules = snapshot.manifest.get("rules") == rules_of(site, TakeOptions())
    scan = site.scan(snapshot.entries if same_rules else None)
    read_content(site.root, scan, Hashing(), snapshot.entries, None, lambda done, total: None)
    return trees_to_put_back(snapshot, scan.entries, chosen)


def trees_to_put_back(
    snapshot: Snapshot, live: Mapping[str, Entry], chosen: Callable[[Entry], bool] | None = None
) -> Trees:
    """The same, from entries of ``live`` that are known already."""
    areas_left_out = set(snapshot.manifest["areas_left_out"])
    left_out = {*snapshot.manifest["left_out"], *snapshot.manifest.get("too_large", ())}

    def were_left_out(entries: Iterable[Entry]) -> Iterator[str]:
        for entry in entries:
            path = entry.path
            if path in left_out or any(path[:at] in left_out for at, c in enumerate(path) if c == "/"):
                yield path

    if chosen is None:
        wanted = _without_areas(snapshot.entries, _NOT_GIVEN_BACK)
        present = _without_areas(live, _NOT_GIVEN_BACK | areas_left_out)
    else:
        wanted = {p: e for p, e in snapshot.entries.items() if chosen(e)}
        present = {p: e for p, e in live.items() if e.area not in areas_left_out and chosen(e)}
    if left_out:  # what a snapshot left out by rule it must not remove either
        for path in list(were_left_out(present.values())):
            del present[path]
    return wanted, present


_NOT_GIVEN_BACK = frozenset(("logs", "cache"))


def _without_areas(entries: Mapping[str, Entry], areas: Set[str]) -> dict[str, Entry]:
    found = dict(entries)
    for path in [e.path for e in found.values() if e.area in areas]:
        del found[path]
    return found


def put_tree_back(
    site: SiteView, snapshot: Snapshot, chosen: Callable[[Entry], bool] | None = None, found: Trees | None = None
) -> RestoreCount:
    """Make live's files what ``snapshot`` holds: logs stay as they are, caches are emptied. Or only those ``chosen``.
    ``found`` is what there was a moment ago, if that is known."""
    wanted, present = found or differing_tree(site, snapshot, chosen)
    count = restore_tree(site.root, wanted, present, snapshot.store.read)
    for pattern in site.model.areas.get("cache", []):
        if "*" not in pattern:
            clear_folder(site.root / pattern)
    return count


def put_database_back(
    site: SiteView, snapshot: Snapshot, then: Callable[[DatabaseWriter], object] | None = None
) -> None:
    """Make live's database what ``snapshot`` holds, and do ``then`` within the same transaction."""
    with open_database(site.database_place).writing() as writer:
        writer.replace(snapshot.state)
        if then is not None:
            then(writer)


def put_back(site: SiteView, store: Store, safety: str) -> None:
    """Live as the safety snapshot holds it, and visitors let in again."""
    snapshot = read_snapshot(store, safety)
    put_tree_back(site, snapshot)
    environment_back(site, snapshot)
    put_database_back(site, snapshot)
    reload_host(site)
    maintenance_off(site)


def undo(
    site: SiteView,
    store: Store,
    safety: str,
    command: str,
    error: BaseException,
    advice: str | None,
    progress: Progress,
) -> NoReturn:
    """After a change that failed: put everything back, close the journal, and raise `PutBackError`; `UnsettledError` when
    even that was interrupted."""
    reason = str(error) or type(error).__name__
    progress.stage(f"putting everything back from snapshot {safety}")
    try:
        put_back(site, store, safety)
    except BaseException as second:
        append_log(site.work, site.name, command, "interrupted", f"{reason}; putting back: {second}", safety)
        raise UnsettledError(
            f"the {command} failed ({reason}), and putting back was interrupted: {second}",
            where=site.root,
            advice="keenharbor settle",
        ) from error
    close_journal(site)
    append_log(site.work, site.name, command, "put back", reason, safety)
    raise PutBackError(f"{reason}; everything was put back", where=site.address, advice=advice) from error

"""``place add``, ``list``, ``send``, ``fetch``, ``verify``, ``thin``; and ``fetch`` by itself."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TypeVar

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.base.text import age, duration, now, parse_stamp, plural, short_age, shorten, size, when
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.cli.terminal import say
from keenharbor.place.adding import Added, add_to_site_file, check_key_file, read_key, set_up, write_key
from keenharbor.place.carriers import CarrierError, Whither, checked_url, open_carrier
from keenharbor.place.checking import Checked, verify
from keenharbor.place.fetching import Fetched, Found, fetch, find_berth
from keenharbor.place.keys import WORDS_ASKED, PlaceKey
from keenharbor.place.line import Line
from keenharbor.place.places import Place, find_places, places_of
from keenharbor.place.sending import Sending, send
from keenharbor.place.standing import standing_of
from keenharbor.place.thinning import PlaceThinning, begin_thinning, may_remove, thin
from keenharbor.site.log import append_log
from keenharbor.site.whereabouts import SITE_FILE_NAME, Whereabouts, whereabouts_of
from keenharbor.snapshot import list_snapshots
from keenharbor.snapshot.keeping import ThinRules
from keenharbor.store import Store

FILE = click.Path(path_type=Path)


@click.group(name="place", context_settings={"help_option_names": ["-h", "--help"]})
def place() -> None:
    """Second places for snapshots: sealed here, sent, verified, fetched back."""


F = TypeVar("F", bound=Callable[..., object])
Said = str | Path | bool | None


def _ways_in(command: F) -> F:
    """The options that say how one gets into a place."""
    for option in (
        click.option("--region", help="The storage's region, where it has several."),
        click.option("--endpoint", help="The address of S3-compatible storage."),
        click.option("--known-hosts", type=FILE, help="A file of known hosts, instead of your own of SSH."),
        click.option("--key-file", type=FILE, help="A key of SSH, where none of your usual ones opens."),
        click.option("--password", metavar="env:NAME|file:PATH", help="Where the password or secret key is."),
        click.option("--user", help="Who one is there (storage: the access key)."),
    ):
        command = option(command)
    return command


# -- add ------------------------------------------------------------------------------------------------------


@harbor_command(place, name="add")
@click.argument("name")
@click.argument("url", required=False)
@_ways_in
@click.option("--limit", help='How fast it may be sent to: "2 MiB/s", "10 Mbit/s".')
@click.option("--hours", help='When it may be sent to: "22:00-06:00".')
@click.option("--append-only", is_flag=True, help="This machine may add there and not remove.")
@click.option("--key", "key_of", type=FILE, help="Use the key in this file; what it opens there is taken up again.")
@click.option("--key-to", type=FILE, help="Write the new key to this file instead of showing it.")
def add_command(
    session: Session, name: str, url: str | None, key_of: Path | None, key_to: Path | None, **said: Said
) -> None:
    """Add a second place: a folder, or an address of SFTP, S3-compatible storage or WebDAV.

    A key is made and shown once: keep it where neither the site nor the place is. Without it nothing that is sent can
    be read, and nobody can make it again."""
    where, places = places_of(session.site_file)
    values: dict[str, str | bool] = {"name": name, **({"url": url} if url is not None else {})}
    values |= {k: str(v) if isinstance(v, Path) else v for k, v in said.items() if v}
    known = next((p for p in places if p.name == name), None)
    if known is None and url is None:
        raise UsageError(f"the site file has no place '{name}'", advice=f"keenharbor place add {name} URL")
    if known is not None and (len(values) > 1 and url != known.part.url):
        raise UsageError(f"the site file has a place '{name}' already", where=where.site_file)
    made = known or _place_of(where, values)
    if made.berth.is_set_up and key_of is None:
        raise UsageError(
            f"the place '{name}' has its key already", where=made.berth.folder,
            advice=f"keenharbor place send {name}; to take it up anew: --key FILE",
        )  # fmt: skip
    with made.line(session.progress.note, makes=True) as line:
        key, new = _key_for(name, key_of, key_to)
        added = set_up(made.berth, line, key, where.name, new=new)
    if known is None:
        add_to_site_file(where.site_file, values)
    append_log(where.work, where.name, "place add", "done", made.part.url, name)
    told = {"place": name, "url": made.part.url, "recipient": key.recipient, "folder": added.folder,
            "snapshots": added.snapshots, "taken_up_again": added.again,
            "key_file": str(key_to) if key_to else None}  # fmt: skip
    session.show(told, lambda out: _render_added(out, made, added, key_to))


def _place_of(where: Whereabouts, values: dict[str, str | bool]) -> Place:
    from pydantic import ValidationError

    from keenharbor.place.berth import Berth
    from keenharbor.site.routines import PlacePart

    try:
        checked_url(str(values["url"]))
        part = PlacePart.model_validate(values)
    except ValidationError as error:
        first = error.errors()[0]
        if first["loc"][0] == "password":
            raise UsageError("a password is named, not typed", advice="--password env:NAME or file:PATH") from None
        raise UsageError(f"'{first['loc'][0]}': {first['msg'].removeprefix('Value error, ').lower()}") from None
    except ValueError as error:
        raise UsageError(str(error)) from None
    return Place(part, where.site_file.parent, Berth(where.work / "places" / part.name))


def _key_for(name: str, key_of: Path | None, key_to: Path | None) -> tuple[PlaceKey, bool]:
    """The key, and whether it is new. A new one is written to a file, or shown and read back."""
    if key_of is not None:
        return read_key(key_of), False
    if key_to is not None:
        check_key_file(key_to)
        key = PlaceKey.made()
        write_key(key_to, key, name)
        return key, True
    if not sys.stdin.isatty():
        raise UsageError(
            "nobody is there to be shown the key", advice="--key-to FILE writes it to a file; then move that elsewhere"
        )
    key = PlaceKey.made()
    words = key.words
    say(f"\nThis is the key of '{name}'. It is shown this once and kept nowhere. Copy it to where neither the site nor")
    say("the place is: without it nothing that is sent can be read.\n")
    say(f"    {key.secret}\n")
    say("The same in words of four letters, behind AGE-SECRET-KEY-1:\n")
    for at in range(0, len(words), 8):
        say("    " + " ".join(words[at : at + 8]))
    say("")
    for _ in range(3):
        said = click.prompt(f"Type its last {WORDS_ASKED} words", err=True)
        if "".join(str(said).split()).upper() == "".join(words[-WORDS_ASKED:]):
            return key, True
        say("These are not its last words.", click.style("! ", fg="yellow"))
    raise UsageError("the key was not read back: nothing was added", advice=f"keenharbor place add {name} …, once more")


def _render_added(out: Console, made: Place, added: Added, key_to: Path | None) -> None:
    again = f", taken up again with {plural(added.snapshots, 'snapshot')}" if added.again else ""
    show.headline(out, "done", f"the place '{made.name}' is added{again}")
    rows = [("where", Text(made.part.url)), ("folder", Text(added.folder))]
    if key_to is not None:
        rows.append(("key", Text(f"{key_to}: move it to where neither the site nor the place is")))
    show.pairs(out, rows)
    show.next_step(out, f"keenharbor place send {made.name}")


# -- list -----------------------------------------------------------------------------------------------------


@harbor_command(place, name="list")
def list_command(session: Session) -> int:
    """Show what each place holds, as far as this machine knows without asking it."""
    where, places = places_of(session.site_file)
    here = list_snapshots(Store(where.store_folder), where.name) if (where.store_folder / "store.json").exists() else []
    standing = [standing_of(p, {s.id for s in here}) for p in places]

    def render(out: Console) -> None:
        if not standing:
            out.print("No place yet.")
            show.next_step(out, "keenharbor place add NAME FOLDER_OR_ADDRESS")
            return
        rows = [
            (
                show.mark(item.verdict, item.name), f"{item.snapshots}",
                short_age(item.newest_taken_at) if item.newest_taken_at else "none", size(item.bytes),
                short_age(item.sent_at) if item.sent_at else "never",
                short_age(item.verified_at) if item.verified_at else "never", item.told,
            )
            for item in standing
        ]  # fmt: skip
        columns = ("place", "snapshots", "newest", "takes", "sent", "verified", "what is to be known")
        show.table(out, columns, rows, right=(1, 3), keep=(0, 2, 4, 5))
        worst = next((s for v in ("damaged", "caution") for s in standing if s.verdict == v), None)
        if worst is not None:
            show.next_step(out, worst.advice)

    session.show([s.as_json() for s in standing], render)
    return 1 if any(s.verdict == "damaged" for s in standing) else 0


# -- send -----------------------------------------------------------------------------------------------------


@contextlib.contextmanager
def _named(name: str) -> Iterator[None]:
    """What goes wrong within is told with the name of the place."""
    try:
        yield
    except CarrierError as error:
        error.what = f"'{name}': {error.what}"
        raise


@harbor_command(place, name="send")
@click.argument("names", nargs=-1, metavar="[NAME]...")
@click.option("--now", "anyway", is_flag=True, help="Also outside the hours that the site file allows.")
def send_command(session: Session, names: tuple[str, ...], anyway: bool) -> int:
    """Send what the places lack of the site's snapshots, sealed. A run that was cut goes on where it was."""
    session.whereabouts()  # so that a stop is noted in its log
    where, places = find_places(session.site_file, names)
    store = Store(where.store_folder)
    results: list[Sending] = []
    failed: list[tuple[str, KeenHarborError]] = []
    began = now()
    for item in places:
        try:
            done = send(where, item, store, session.progress, anyway=anyway)
        except KeenHarborError as error:
            failed.append((item.name, error))
            append_log(where.work, where.name, "place send", "failed", error.what, item.name)
            if len(places) == 1:
                with _named(item.name):
                    raise
            continue
        results.append(done)
        outcome = "stopped" if done.waits_until else ("done" if done.good else "caution")
        append_log(
            where.work, where.name, "place send", outcome,
            f"{plural(len(done.snapshots), 'snapshot')}, {size(done.bytes)}", item.name,
        )  # fmt: skip
    told = [r.as_json() for r in results] + [{"place": n, "error": e.as_json()} for n, e in failed]
    seconds = (now() - began).total_seconds()
    session.show(told, lambda out: _render_sent(out, results, failed, seconds))
    if failed:
        return 3
    return 1 if any(r.waits_until or not r.good for r in results) else 0


def _render_sent(
    out: Console, results: Sequence[Sending], failed: Sequence[tuple[str, KeenHarborError]], seconds: float
) -> None:
    for name, error in failed:
        show.headline(out, "failed", f"'{name}': {error.what}")
        if error.advice:
            out.print(Text(error.advice, style="dim"))
    for item in results:
        if item.waits_until is not None:
            wait = when(item.waits_until)
            show.headline(out, "stopped", f"'{item.place}' may not be sent to now; its hours begin {wait}")
            show.next_step(out, f"keenharbor place send {item.place}, then; or now with --now")
            continue
        what = (
            f"{plural(len(item.snapshots), 'snapshot')} sent to '{item.place}': {size(item.bytes)}"
            if item.snapshots
            else f"'{item.place}' has all snapshots"
        )
        show.headline(
            out, "done" if item.good else "caution", what + (f", {duration(seconds)}" if item.parcels else "")
        )
        for problem in item.problems:
            out.print(show.said("caution", problem))
        newest = f", the newest {item.newest}" if item.newest else ""
        show.pairs(out, [("holds", Text(plural(item.in_all, "snapshot") + newest)), ("state", Text(str(item.state)))])
    if failed:
        show.next_step(out, "keenharbor place send, once more: what was sent is not sent again")


# -- verify ---------------------------------------------------------------------------------------------------


@harbor_command(place, name="verify")
@click.argument("names", nargs=-1, metavar="[NAME]...")
@click.option("--all", "everything", is_flag=True, help="Read all back, not the part that is due.")
@click.option("--key", "key_of", type=FILE, help="With the key in this file also open what is read.")
def verify_command(session: Session, names: tuple[str, ...], everything: bool, key_of: Path | None) -> int:
    """Hold places against what was sent, and read back a part: all of it over a month.

    That needs no key. What is damaged is sent again by 'place send', as long as it is here."""
    session.whereabouts()  # so that a stop is noted in its log
    where, places = find_places(session.site_file, names)
    key = read_key(key_of) if key_of is not None else None
    results: list[Checked] = []
    for one in places:
        with _named(one.name):
            results.append(verify(one, session.progress, everything=everything, key=key))
    for item in results:
        detail = f"{plural(item.read, 'parcel')} read back" + (f", {len(item.troubles)} wrong" if item.troubles else "")
        append_log(where.work, where.name, "place verify", "good" if item.good else "damaged", detail, item.place)
    session.show([r.as_json() for r in results], lambda out: _render_checked(out, results))
    return 0 if all(r.good for r in results) else 1


def _render_checked(out: Console, results: Sequence[Checked]) -> None:
    for item in results:
        verdict = "good" if item.good else "damaged"
        count = len(item.troubles)
        what = "is as it was sent" if item.good else f"is not as it was sent: {plural(count, 'object')} wrong"
        if item.problems and not count:
            what = "is not as it was left"
        show.headline(out, verdict, f"the place '{item.place}' {what}")
        for problem in item.problems:
            out.print(show.said("damage", problem))
        for trouble in item.troubles[:20]:
            out.print(show.said("damage", f"{trouble.name.partition('/')[2]}: {trouble.what}"))
            if trouble.snapshots:
                few = ", ".join(trouble.snapshots[:3]) + (" …" if len(trouble.snapshots) > 3 else "")
                out.print(Text(f"    needed by {plural(len(trouble.snapshots), 'snapshot')}: {few}", style="dim"))
        if count > 20:
            out.print(Text(f"    and {count - 20} more (--json has all)"))
        rest = f"; {item.never_read} never yet" if item.never_read else ""
        oldest = f"the longest ago {age(item.oldest_reading)}{rest}" if item.oldest_reading else "nothing yet"
        rows = [
            ("holds",
                Text(f"{plural(item.snapshots, 'snapshot')}, {plural(item.parcels, 'parcel')}, {size(item.bytes)}")),
            ("read now", Text(f"{plural(item.read, 'parcel')}, {size(item.read_bytes)}"
                              + (", and opened with the key" if item.opened else ""))),
            ("read back", Text(oldest)),
        ]  # fmt: skip
        if item.strays:
            told = (
                f"{plural(item.strays, 'object')}, {size(item.stray_bytes)}, of which no state tells: left by cut "
                f"lines, or replaced"
            )
            rows.append(("besides", Text(told)))
        show.pairs(out, rows)
        if not item.good:
            show.next_step(out, f"keenharbor place send {item.place} sends again what is here still")


# -- fetch ----------------------------------------------------------------------------------------------------


def _fetch(
    session: Session, whence: str, into: Path, key_of: Path | None, only: tuple[str, ...], upto: int | None,
    berth: str | None, ways: dict[str, Said],
) -> int:  # fmt: skip
    connections = 4
    if "/" in whence:
        line = _line_to(whence, ways, session)
    else:
        _, (item,) = find_places(session.site_file, (whence,))
        connections = item.part.connections
        line = item.line(session.progress.note)
    key = _asked_key(key_of)
    with line:
        found = find_berth(line, key, whence, berth, upto)
        done = fetch(line, found, key, into.absolute(), session.progress, only=only, connections=connections)
    if done.site_file is not None:
        at = whereabouts_of(done.site_file)
        told = f"{plural(len(done.whole), 'snapshot')}, state {done.state}"
        append_log(at.work, at.name, "place fetch", "done" if done.good else "damaged", told, "", whence)
    session.show(done.as_json(), lambda out: _render_fetched(out, done, found))
    return 0 if done.good else 1


def _line_to(url: str, ways: dict[str, Said], session: Session) -> Line:
    from keenharbor.base.references import is_reference, referred

    password = _text(ways["password"])
    if password is not None and not is_reference(password):
        raise UsageError("a password is not typed into a command, where others see it", advice="env:NAME or file:PATH")
    try:
        where = checked_url(url)
        key_file, known_hosts = (Path(str(f)) if (f := ways[n]) else None for n in ("key_file", "known_hosts"))
        whither = Whither(
            where, _text(ways["user"]), referred(password) if password else None, key_file, known_hosts,
            _text(ways["endpoint"]), _text(ways["region"]),
        )  # fmt: skip
    except (ValueError, LookupError) as error:
        raise UsageError(str(error.args[0])) from None
    return Line(lambda: open_carrier(whither), told=session.progress.note)


def _text(said: Said) -> str | None:
    return None if said is None else str(said)


def _asked_key(key_of: Path | None) -> PlaceKey:
    if key_of is not None:
        return read_key(key_of)
    if not sys.stdin.isatty():
        raise UsageError("nobody is there to ask for the key", advice="--key FILE")
    return PlaceKey.read(str(click.prompt("The key of the place", hide_input=True, err=True)))


def _fetch_options(command: F) -> F:
    for option in (
        click.option("--of", "berth", metavar="SITE|FOLDER", help="Which, where the key opens several."),
        click.option("--state", "upto", type=click.IntRange(1), help="As the place was at this state."),
        click.option(
            "--snapshot", "only", multiple=True, metavar="ID", help="Only what this one needs; can be repeated."
        ),
        click.option("--key", "key_of", type=FILE, help="The file with the key (else it is asked for)."),
        click.option("--to", "into", type=FILE, required=True, help="The folder to which the store comes."),
    ):
        command = option(command)
    return _ways_in(command)


@harbor_command(place, name="fetch")
@click.argument("whence", metavar="NAME|ADDRESS")
@_fetch_options
def place_fetch_command(
    session: Session, whence: str, into: Path, key_of: Path | None, only: tuple[str, ...], upto: int | None,
    berth: str | None, **ways: Said,
) -> int:  # fmt: skip
    """Bring the store back from a place, with the key. A run that was cut goes on where it was."""
    return _fetch(session, whence, into, key_of, only, upto, berth, ways)


@harbor_command(name="fetch", site=False)
@click.argument("whence", metavar="ADDRESS")
@_fetch_options
def fetch_command(
    session: Session, whence: str, into: Path, key_of: Path | None, only: tuple[str, ...], upto: int | None,
    berth: str | None, **ways: Said,
) -> int:  # fmt: skip
    """Bring the store back from a place on a machine that has nothing but the key."""
    if "/" not in whence:
        whence = str(Path(whence).absolute())
    return _fetch(session, whence, into, key_of, only, upto, berth, ways)


def _render_fetched(out: Console, done: Fetched, found: Found) -> None:
    verdict = "done" if done.good else "damaged"
    show.headline(
        out, verdict, f"{plural(len(done.whole), 'snapshot')} of {', '.join(found.sites) or 'no site'} fetched"
        + (f", {len(done.lacking)} not whole" if done.lacking else ""),
    )  # fmt: skip
    for problem in done.problems[:20]:
        out.print(show.said("damage", problem))
    for identity in done.lacking[:20]:
        out.print(show.said("damage", f"snapshot {identity} is not whole"))
    rows = [
        ("store", Text(str(done.store))),
        ("fetched", Text(f"{plural(done.parcels, 'parcel')}, {size(done.bytes)}")),
        ("the place", Text(f"at state {done.state}, written {when(parse_stamp(done.at))}")),
    ]
    if done.papers:
        rows.append(("with it", Text(", ".join(done.papers))))
    show.pairs(out, rows)
    out.print()
    out.print(Text("Is that the newest state that you know of? Who stores it could show an earlier one.", style="dim"))
    if done.whole and done.site_file is not None:
        show.next_step(
            out,
            f"cd {done.site_file.parent}; keenharbor snapshot restore {done.whole[-1]} --to FOLDER"
            + ("" if done.site_file.name == SITE_FILE_NAME else f" --site {done.site_file.name}"),
        )


# -- thin -----------------------------------------------------------------------------------------------------


@harbor_command(place, name="thin")
@click.argument("name")
@click.option("--newest", type=click.IntRange(0), help="Let so many of the newest stay (instead of [place.keep]).")
@click.option("--daily", type=click.IntRange(0), help="Let the newest of each of so many days stay.")
@click.option("--weekly", type=click.IntRange(0), help="The same by weeks.")
@click.option("--monthly", type=click.IntRange(0), help="The same by months.")
@click.option("--key", "key_of", type=FILE, help="The file with the key: from another machine than the site's.")
@click.option("--of", "berth", metavar="SITE|FOLDER", help="Which, where the key opens several.")
@click.option("--yes", is_flag=True, help="Do it without asking.")
@click.option("--preview", is_flag=True, help="Only show what would go.")
def thin_command(
    session: Session, name: str, key_of: Path | None, berth: str | None, yes: bool, preview: bool, **said: int | None
) -> None:
    """Remove old snapshots from a place, by the rules of [place.keep] or those typed here. Shows first what would go.

    The newest stays whatever they say. A place to which the site's machine may only add is thinned from another one,
    whose log-in may remove, with the key."""
    from keenharbor.host.lease import held as lease

    session.whereabouts()
    where, (item,) = find_places(session.site_file, (name,))
    rules = item.rules
    if any(v is not None for v in said.values()):
        count = {k: v or 0 for k, v in said.items()}
        rules = ThinRules(count["newest"], None, count["daily"], count["weekly"], count["monthly"])
    key = read_key(key_of) if key_of is not None else None
    may_remove(item, key)
    with item.line(session.progress.note) as line, lease(item.berth.lock, f"the place '{name}'", doing="thin"):
        begun = begin_thinning(item, line, rules, key, berth)
        plan = begun.plan
        if preview or not (plan.go or plan.strays):
            session.show({**plan.as_json(), "done": False}, lambda out: _render_thin(out, name, plan, done=False))
            return
        if not session.as_json and not yes:
            _render_thin(session.out, name, plan, done=False)
        session.confirm(f"{plural(len(plan.go), 'snapshot')} will be removed from '{name}' for good.", yes)
        thin(item, line, begun, lambda done, total: session.progress.advance(done, total, "object"))
    detail = f"{plural(len(plan.go), 'snapshot')} removed, {size(plan.frees)} freed"
    append_log(where.work, where.name, "place thin", "done", detail, name)
    session.show({**plan.as_json(), "done": True}, lambda out: _render_thin(out, name, plan, done=True))


def _render_thin(out: Console, name: str, plan: PlaceThinning, *, done: bool) -> None:
    if done:
        show.headline(
            out, "done", f"{plural(len(plan.go), 'snapshot')} removed from '{name}', {size(plan.frees)} freed"
        )
        return
    rows = [(show.mark("note", "stays"), i, shorten(why, 40)) for i, why in sorted(plan.stay.items(), reverse=True)]
    rows += [(show.mark("failed", "goes"), i, "") for i in reversed(plan.go)]
    show.table(out, ("", "snapshot", "why"), rows, keep=(0, 1))
    out.print()
    out.print(Text(f"{plural(len(plan.go), 'snapshot')} would go; {size(plan.frees)} would be freed."))
    if plan.go:
        show.next_step(out, "the same command with --yes does it")

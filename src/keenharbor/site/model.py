"""The site file and the platform file, as data.

Both have the same keys. A site file may extend a platform file; where both say something, the site file wins,
table by table and key by key (lists are replaced, not joined).
"""

from __future__ import annotations

import json
from typing import Annotated, Literal

from blake3 import blake3
from pydantic import Field, field_validator, model_validator

from keenharbor.database.kinds import SQLITE
from keenharbor.site.part import Part, Text
from keenharbor.site.routines import LinePart, PlacePart, RoutinePart, TellPart
from keenharbor.site.settings import SettingsForm
from keenharbor.site.whereabouts import USUAL_STORE, USUAL_WORK


def split_address(address: str) -> tuple[str, str]:
    """An address without its path, and the path without a slash at its end (empty: there is none)."""
    host = "/".join(address.split("/", 3)[:3])
    return host, address[len(host) :].rstrip("/")


class SitePart(Part):
    """Where the site is. ``root`` is its folder of files, on another machine ``ssh://USER@HOST:PORT/FOLDER``; ``work``
    holds what the tool keeps beside its store. An ``address`` with a path is that of a site that shares its host with
    others: only what lies under the path is looked at."""

    name: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]*$", max_length=60)]
    title: str = ""
    root: Text
    address: Annotated[str, Field(pattern=r"^https?://[^/\s?#]+(/[^/\s?#]+)*/?$")]
    work: Text = USUAL_WORK

    @property
    def host_address(self) -> str:
        """The address without its path."""
        return split_address(self.address)[0]

    @property
    def base(self) -> str:
        """The path of the address, without a slash at its end; empty for a site that has its host to itself."""
        return split_address(self.address)[1]


class StorePart(Part):
    """Where snapshots are kept; must lie outside the site's folder."""

    path: Text = USUAL_STORE


class PlatformPart(Part):
    """The system that the site runs on, and the files by which a site of it is recognised."""

    name: Text
    title: str = ""
    recognised_by: list[Text] = []


class CorePart(Part):
    """The core: where its version is written, and its package's name in the feed.

    The version stands in ``version_file``: by itself, or at ``key`` when the file is in a form of settings files; or it
    is that of the installed ``distribution`` (see `RuntimePart.packages`)."""

    version_file: Text | None = None
    key: Text | None = None
    distribution: Text | None = None
    package: Text

    @model_validator(mode="after")
    def _has_a_place(self) -> CorePart:
        if self.version_file is None and self.distribution is None:
            raise ValueError("'version_file' or 'distribution' is wanted")
        return self


class SettingsTablePart(Part):
    """The database table in which settings are kept, one a row."""

    table: Text
    name: Text
    value: Text


class SettingsPart(Part):
    """The settings file and its form; keys in it are written ``section.key`` (see `keenharbor.site.settings`)."""

    file: Text
    format: SettingsForm = "ini"
    table: SettingsTablePart | None = None


class SwitchPart(Part):
    """What says which extensions are on: a database ``table`` with a column ``on`` for each ``name``; a table in which
    one row's cell (``on``, in the row whose ``name`` is ``row``) lists them; or a list (or a table of yes and no) of
    the settings ``file`` (that of ``[settings]`` where none is named) at ``setting``."""

    table: Text | None = None
    name: Text | None = None
    on: Text | None = None
    row: Text | None = None
    setting: Text | None = None
    file: Text | None = None
    format: SettingsForm | None = None

    @model_validator(mode="after")
    def _is_whole(self) -> SwitchPart:
        if self.setting is None and None in (self.table, self.name, self.on):
            raise ValueError("'setting', or 'table', 'name' and 'on' are wanted")
        return self


class DescribedFolder(Part):
    """A folder whose folders are described by a file in each (keys as ``section.key``).

    ``facts`` may have wild cards and ``{name}`` for the folder's name; with the format ``header`` its first comment
    holds lines ``Key: value``; with the format ``folder`` it describes nothing. With the format ``distributions`` the
    installed Python distributions are meant, and ``folder`` is that of their packages; ``only`` names those that belong
    to the site. Things of the same make in further folders: ``also``. Where each thing is a file and no folder,
    ``files`` is what their names are like (``*.css``), and ``facts`` a file beside it (``{name}.meta``; itself when it
    is empty)."""

    folder: Text
    also: list[Text] = []
    files: Text = ""
    facts: Text = ""
    only: list[Text] = []
    format: SettingsForm | Literal["header", "folder", "distributions"] = "ini"
    fields: dict[str, str] = {}


class FolderPart(DescribedFolder):
    """Where extensions or themes are, and what says which are on. Folders whose things are described otherwise:
    ``others``."""

    others: list[DescribedFolder] = []
    switch: SwitchPart | None = None

    @property
    def places(self) -> tuple[DescribedFolder, ...]:
        """All folders, each with how its things are described."""
        return (self, *self.others)


class DatabaseSettingsPart(Part):
    """The keys of the site's own settings file that say where its database is: names of keys, not values.

    ``file`` and ``format`` when it is another one than that of ``[settings]``. ``url`` may hold a connection URL or a
    data source name; ``host`` also ``HOST:PORT`` or ``HOST:/PATH/OF.sock``; a ``path`` that is a mere name becomes a
    file by ``path_pattern`` (``data/{}.db``)."""

    file: Text | None = None
    format: SettingsForm | None = None
    path_pattern: Text | None = None
    engine: Text | None = None
    url: Text | None = None
    path: Text | None = None
    host: Text | None = None
    port: Text | None = None
    socket: Text | None = None
    name: Text | None = None
    user: Text | None = None
    password: Text | None = None


class DatabasePart(Part):
    """The database: its engine and its place, as a ``path``, as the ``setting`` that holds the path, as a ``url``, or
    by the keys of the site's own ``settings`` (which keep the password). A URL's password may stand in a file.

    ``scratch_url`` names a server on which clones may make databases; without it they get servers of their own."""

    engine: Text = SQLITE.name
    path: str | None = None
    setting: str | None = None
    url: Text | None = None
    password_file: Text | None = None
    scratch_url: Text | None = None
    settings: DatabaseSettingsPart | None = None


class RuntimePart(Part):
    """The language runtime: the file in the site that selects its version (or the ``version``), each version's
    launcher, and the folder of its installed ``packages``. From a ``wheelhouse``, a folder of packages beside the site
    file, they are installed without a network. ``server_configs`` are files of the web server that say what it allows
    the runtime."""

    name: Text
    version_file: Text | None = None
    version: Text | None = None
    packages: Text | None = None
    wheelhouse: Text | None = None
    server_configs: list[Text] = []
    launchers: dict[str, str] = {}


class ServePart(Part):
    """How to start the site for a clone. Places: {runtime} {root} {port} {top}. The last is for servers that are told
    a folder: it is the site's ``folder`` or, where the site's address has a path, one in which that stands under the
    path."""

    command: list[Text]
    folder: Text | None = Field(default=None, description="what a web server serves of the root, where not all of it")
    ready_path: str = "/"
    start_seconds: float = 15


class CommandsPart(Part):
    """The system's own commands. Places: {runtime} {root} {owner} {name} {port}. ``pending`` only reads, and ends with
    another code than 0 when changes of the database's definitions are pending. ``build_schema`` brings an empty
    database up: a trial holds what the new release makes of one against the upgraded database."""

    migrate: list[Text] | None = None
    pending: list[Text] | None = None
    build_schema: list[Text] | None = None
    switch_on: list[Text] | None = None
    switch_off: list[Text] | None = None
    purge_cache: list[Text] | None = None

    def as_lists(self) -> list[list[Text]]:
        """Those that are named."""
        named = (self.migrate, self.pending, self.build_schema, self.switch_on, self.switch_off, self.purge_cache)
        return [c for c in named if c]


class UpgradePart(Part):
    """What is known of upgrades of the system: extensions that are to be off meanwhile, since they disturb one."""

    switch_off: list[Text] = []


class ClonePart(Part):
    """Extensions that would disturb a copy of the site (redirects to its address, caches, licence checks): off in
    clones.

    A clone's programs see the system's programs and libraries, the runtimes that the site file names, and the clone;
    what else they ``need`` to read is named here (relative to the site file), and under ``launchers`` the runtimes of
    this machine by version, where live is on another and they are not found. All of them together may be so many
    ``processes``, take so much ``memory_mib`` and add so much ``disk_mib`` (0: three quarters of the machine's memory;
    twice what the snapshot holds and 2 GiB)."""

    switch_off: list[Text] = []
    needs: list[Text] = []
    launchers: dict[str, str] = {}
    processes: int = Field(default=512, ge=8)
    memory_mib: int = Field(default=0, ge=0)
    disk_mib: int = Field(default=0, ge=0)


class LivePart(Part):
    """What only the live site needs: the command that makes the host take up changed code."""

    reload: list[Text] | None = None


class MaintenancePart(Part):
    """The maintenance flag: a file; who sends its content in ``header`` is let through. Where the system knows of no
    flag, ``init --maintenance`` puts a ``gate`` into these files: they get it again when a step writes them."""

    flag: Text
    header: Text
    gate: list[Text] = []


class MailPart(Part):
    """The settings that say where mail is sent to."""

    host: Text
    port: Text


class FilesPart(Part):
    """Paths that a snapshot leaves out whole, and those of which it keeps the folders only."""

    leave_out: list[Text] = []
    empty: list[Text] = []


class SnapshotPart(Part):
    """What a snapshot leaves out beside the paths of ``[files]``, and how much it may take of the machine.

    Of ``empty_tables`` the definition is kept and no row; files larger than ``largest_file`` bytes are listed, not
    taken. ``usual`` leaves out version control and what a package manager made (see `USUAL`). ``gentle`` is for shared
    servers. So many pages of live are looked at by ``visit`` when one is taken (0: none): a drill compares with
    them."""

    empty_tables: list[Text] = []
    largest_file: Annotated[int, Field(gt=0)] | None = None
    usual: bool = True
    gentle: bool = False
    workers: Annotated[int, Field(ge=1, le=64)] | None = None
    level: Annotated[int, Field(ge=1, le=19)] = 1
    visit: Annotated[int, Field(ge=0, le=100)] = 8


USUAL = ("**/.git", "**/.hg", "**/.svn", "**/.bzr", "**/node_modules", "**/__pycache__", "**/.venv", "**/venv")
"""Version control and dependencies that are made anew by one command. A folder ``vendor`` is not among them: releases
ship it, and a site does not run without."""


class VisitorDataPart(Part):
    """Tables that visitors write to: new rows there are no doubt, and are what a rollback carries over where the state
    at the cutover's end is not known."""

    tables: list[Text] = []


class VolatileRows(Part):
    """Rows of a table that change by themselves: those whose ``column`` is ``like`` one of these (``*`` stands for
    anything): ``{ table = "settings", column = "name", like = ["cache_*"] }``."""

    table: Text
    column: Text
    like: Annotated[list[Text], Field(min_length=1)]


class VolatilePart(Part):
    """What changes with every visit, or by itself, and is not compared: whole ``tables`` (sessions, counters);
    ``columns`` as ``table.column`` (the time of the last visit); ``rows`` of a table that is (caches and schedules
    among the settings)."""

    tables: list[Text] = []
    columns: list[Annotated[str, Field(pattern=r"^.+\..+$")]] = []
    rows: list[VolatileRows] = []


Wins = Literal["live", "snapshot", "ask"]


class MergePart(Part):
    """Who ``wins`` where both the upgrade and somebody since then changed the same cell: what was done last on
    ``live``, what the ``snapshot`` holds, or nobody before a person was ``ask``ed; by table in ``tables``. The other is
    saved and listed."""

    wins: Wins = "live"
    tables: dict[str, Wins] = {}


class LookPart(Part):
    """Where a look at the pages starts, and how many pages it takes in at most. ``log_in`` names the check after which
    the pages are walked once more on clones, as a member sees them; with ``pictures`` trials look with a browser, too.
    Pages that only ``sitemaps`` list (and those that robots.txt names) are looked at last. Those that are not timed are
    visited over ``connections`` at most, as far as that is quicker for the site; with a ``pause`` (seconds) one after
    another, and slowly: for hosts that refuse more. One look takes no longer than so many ``minutes`` and sends no more
    than so many ``requests``: where there are more pages, some of each kind of address stand for all. Paths are those
    behind the host; of a site whose address has a path they begin with it, as does all that is looked at
    (``inside``)."""

    starts: list[Text] = ["/"]
    inside: Text = "/"
    limit: Annotated[int, Field(ge=1, le=100_000)] = 500
    skip: list[Text] = []
    sitemaps: list[Text] = ["/sitemap.xml"]
    log_in: Text | None = None
    pictures: bool = False
    connections: Annotated[int, Field(ge=1, le=16)] = 4
    pause: Annotated[float, Field(ge=0, le=60)] = 0.0
    minutes: Annotated[float, Field(gt=0)] | None = None
    requests: Annotated[int, Field(ge=1)] | None = None

    def follows(self, link: str) -> bool:
        """Whether a link leads to a page that may be looked at."""
        inside = link.startswith(self.inside) or link.partition("?")[0] == self.inside.rstrip("/")
        return link.startswith("/") and inside and not any(link.startswith(s) for s in self.skip)


class VerdictPart(Part):
    """How much kinds of findings weigh, where that differs from what the tool says: by kind ``damage`` (fails a trial),
    ``doubt`` (asks for a person), ``note`` (is told only)."""

    weights: dict[str, Literal["damage", "doubt", "note"]] = {}


class CheckStep(Part):
    """One step of a scripted visit, and what it must bring."""

    get: str | None = None
    submit: str | None = Field(default=None, description="the id of a form on the page of the step before")
    fields: dict[str, str] = {}
    press: str | None = Field(default=None, description="the name of the button that sends the form")
    status: int = 200
    text: str | None = Field(default=None, description="the page says it; in a browser outside its scripts")
    selector: Text | None = Field(default=None, description="something on the page fits it (CSS), and says the text")
    mail_to: str | None = None

    @field_validator("selector")
    @classmethod
    def _can_be_read(cls, said: str | None) -> str | None:
        if said is not None:
            from selectolax.lexbor import LexborHTMLParser, SelectolaxError

            try:
                LexborHTMLParser("<p>").css(said)
            except SelectolaxError:
                raise ValueError("this is no CSS selector") from None
        return said


class CheckPart(Part):
    """A scripted visit. One that ``writes`` is made on clones only; one in a ``browser`` runs the scripts of the pages:
    there ``submit`` may be a selector, ``press`` what a button says, and both may stand alone."""

    name: Text
    writes: bool = False
    browser: bool = False
    seconds: float = Field(default=10, gt=0, description="so long a step in the browser waits for what it expects")
    steps: Annotated[list[CheckStep], Field(min_length=1)]

    @model_validator(mode="after")
    def _can_be_sent(self) -> CheckPart:
        if not self.browser and any((s.press or s.fields) and s.submit is None for s in self.steps):
            raise ValueError("'fields' and 'press' want a form to 'submit', or 'browser = true'")
        return self


class FeedPart(Part):
    """The feed of releases: a file; or, for Python sites, an ``index`` that speaks the simple repository API in JSON
    (an address, or a folder that holds recorded answers). Of a file only releases of these ``channels`` are offered."""

    path: Text | None = None
    index: Text | None = None
    channels: Annotated[list[Text], Field(min_length=1)] = ["stable"]

    @model_validator(mode="after")
    def _has_one(self) -> FeedPart:
        if (self.path is None) == (self.index is None):
            raise ValueError("one of 'path' and 'index' is wanted")
        return self


_REHEARSED = (
    "settings", "database", "runtime", "extensions", "themes", "areas", "files", "volatile", "address", "serve",
    "commands", "mail", "look", "check",
)  # fmt: skip


class SiteFile(Part):
    """All that is said of one site."""

    format: Literal[1]
    extends: str | None = None
    site: SitePart
    line: LinePart = LinePart()
    store: StorePart = StorePart()
    platform: PlatformPart
    core: CorePart
    settings: SettingsPart | None = None
    database: DatabasePart
    runtime: RuntimePart
    extensions: FolderPart | None = None
    themes: FolderPart | None = None
    areas: dict[Literal["core", "extensions", "themes", "media", "settings", "cache", "logs"], list[str]] = {}
    files: FilesPart = FilesPart()
    snapshot: SnapshotPart = SnapshotPart()
    visitor_data: VisitorDataPart = VisitorDataPart()
    volatile: VolatilePart = VolatilePart()
    merge: MergePart = MergePart()
    address: dict[Literal["setting"], str] = {}
    serve: ServePart | None = None
    commands: CommandsPart = CommandsPart()
    upgrade: UpgradePart = UpgradePart()
    clone: ClonePart = ClonePart()
    live: LivePart = LivePart()
    maintenance: MaintenancePart | None = None
    mail: MailPart | None = None
    look: LookPart = LookPart()
    verdict: VerdictPart = VerdictPart()
    check: list[CheckPart] = []
    feed: FeedPart | None = None
    routine: RoutinePart = RoutinePart()
    tell: TellPart = TellPart()
    place: list[PlacePart] = []
    places_file: Text | None = Field(default=None, description="a file with [[place]] tables that sites share")

    @model_validator(mode="before")
    @classmethod
    def _what_lies_under_the_path(cls, said: object) -> object:
        """Where the address has a path, what the site file does not say begins with it."""
        match said:
            case {"site": {"address": str(address)} as site, **rest} if base := split_address(address)[1]:
                usual = {"starts": [f"{base}/"], "inside": f"{base}/", "sitemaps": [f"{base}/sitemap.xml"]}
                made = {"site": site, **rest}
                if isinstance(look := rest.get("look", {}), dict):
                    made["look"] = {**usual, **look}
                if isinstance(serve := rest.get("serve"), dict):
                    made["serve"] = {"ready_path": f"{base}/", **serve}
                return made
        return said

    @model_validator(mode="after")
    def _log_in_is_a_check(self) -> SiteFile:
        if self.look.log_in is not None and self.look.log_in not in {c.name for c in self.check}:
            raise ValueError(f"'log_in' under [look] names no check: '{self.look.log_in}'")
        return self

    def rehearsed(self) -> dict[str, str]:
        """Digests of the tables by which a trial looks at a site and works on it: one of them that changes makes the
        trial one of another description."""
        said = self.model_dump(mode="json", include=set(_REHEARSED))
        return {name: blake3(json.dumps(said[name], sort_keys=True).encode()).hexdigest()[:16] for name in _REHEARSED}

    @field_validator("place")
    @classmethod
    def _names_differ(cls, said: list[PlacePart]) -> list[PlacePart]:
        if len({p.name for p in said}) < len(said):
            raise ValueError("two places have the same name")
        return said

    @property
    def log_in(self) -> CheckPart | None:
        """The scripted visit after which a member is logged in, if the site file names one."""
        return next((c for c in self.check if c.name == self.look.log_in), None)

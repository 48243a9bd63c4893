"""What a machine under a site offers: its files, its programs, a lease on the site, the way to its databases.

`keenharbor.host.here` is this machine. Nothing above this package assumes that a site's paths are paths of this
machine, that a file has an inode, or that a process can be forked: a machine elsewhere fulfils the same protocols."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import BinaryIO, Optional, Protocol, Tuple  # noqa: UP035

from keenharbor.host.areas import AreaRules
from keenharbor.host.entries import Entry, FileKind, Scan, Stamp
from keenharbor.host.programs import Programs, Ran
from keenharbor.host.sqlitefile import SqliteFiles

Store = Callable[[bytes, "str | None"], str]
Have = Callable[[str], bool]
Outcome = Tuple[str, Optional[Tuple[str, ...]], Optional[Entry], bool]  # noqa: UP006, UP045 - evaluated by older ones
"""A path; the ids of its content where all else was as it had been scanned; or its entry as it was read, where not;
whether it kept changing (or, with neither, may not be read). Few bytes, since processes send them to each other."""
Batch = Sequence[tuple[object, ...]]
"""The fields of entries, which a process sends faster to another than the entries."""


@dataclass(frozen=True)
class WalkRules:
    """How a tree is walked: to which area a path belongs; patterns of paths that are passed over whole (``leave_out``)
    and of which only the folders are kept (``empty``); files of more bytes than ``largest`` are listed, not taken;
    ``seen`` are the entries of an earlier walk by the same rules, which are handed on as they are where nothing was
    touched."""

    areas: AreaRules
    leave_out: Sequence[str] = ()
    empty: Sequence[str] = ()
    largest: int | None = None
    seen: Mapping[str, Entry] | None = None


@dataclass(frozen=True)
class Facts:
    """What a path is now. ``linked`` says that the same file has other names, too; ``disk`` tells disks apart."""

    kind: FileKind | None
    mode: int
    size: int
    mtime_ns: int
    stamp: Stamp
    linked: bool
    disk: str


class ReadFiles(Protocol):
    """A tree of files that can only be read. Paths are relative, with ``/``; the empty one is the tree's top.

    No link on the way to a path is followed. Where ``through_links`` is asked for, links are followed as long as they
    stay in the tree; each method raises OSError where they do not, and for what else the machine refuses."""

    @property
    def place(self) -> str:
        """Where the tree is on its machine, for people and for texts that name it."""

    @property
    def forks(self) -> bool:
        """Whether several processes of this machine may read it at once."""

    def begin_walk(self, rules: WalkRules) -> tuple[Scan, Iterator[Sequence[Entry]]]:
        """A scan, and what fills it while it is taken, a folder's entries at a time. Sockets, pipes and devices are
        left out. Raises `UsageError` when the tree is not there."""

    def still_as_walked(self, scan: Scan) -> bool:
        """Whether nothing of what ``scan`` found has been touched since, and nothing has come or gone. "No" may be
        wrong, "yes" is not."""

    def read_batch(
        self, looked_at_again: bool, batch: Batch, store: Store, *, have: Have | None = None
    ) -> list[Outcome]:
        """Give the content of each entry to ``store``, but such as is known to have an id that the caller may ``have``
        (None: any). With ``looked_at_again`` the caller asks `still_as_walked` afterwards."""

    def look(self, path: str, *, through_links: bool = False) -> Facts | None:
        """What stands there; None where nothing does."""

    def names(self, path: str, *, through_links: bool = False) -> list[str]:
        """What is in a folder, sorted."""

    def target(self, path: str) -> str:
        """Where a link leads."""

    def open(self, path: str, *, through_links: bool = False) -> BinaryIO:
        """A file, for reading. Raises OSError for what is no plain file."""

    def leads_to(self, path: str) -> str:
        """The path within the tree that ``path`` is once its links are followed. Raises OSError where it leads out."""

    def may_write(self, path: str) -> bool:
        """Whether this user may."""

    def free_bytes(self) -> int:
        """Room on its disk."""


class Changes(Protocol):
    """A number of changes to a tree, within one block. Each raises OSError; none follows a link on its way."""

    def stage(self, entry: Entry, read: Callable[[str], bytes]) -> str:
        """Write a file's content beside its place, whole, with mode, owner and time; returns the path of what was
        written."""

    def write_there(self, entry: Entry, read: Callable[[str], bytes]) -> None:
        """Write a file where nothing is yet."""

    def put(self, staged: str, path: str) -> None:
        """Put in place what was staged, by one rename."""

    def make_folder(self, path: str) -> None:
        """Make a folder and what is missing above it, if it is not there."""

    def make_link(self, entry: Entry) -> None:
        """Put a symbolic link in place."""

    def same_file(self, entry: Entry) -> bool:
        """Make a path another name of the file ``entry.same_as``; False where that cannot be."""

    def set_facts(self, entry: Entry, *, owner: bool = True, times: bool = True) -> None:
        """Give a path owner, mode and time of ``entry``."""

    def remove(self, path: str) -> None:
        """Remove a file or a link; nothing where it is not there."""

    def remove_folder(self, path: str) -> bool:
        """Remove a folder that is empty (or what is no folder any more); False where it holds something."""


class Files(ReadFiles, Protocol):
    """A tree of files that can be changed as well."""

    def changing(self) -> contextlib.AbstractContextManager[Changes]:
        """Changes within a block, by one thread."""

    def write(self, path: str, content: bytes, mode: int | None = None, *, durable: bool = False) -> None:
        """Put a file in place by a rename, with its folders; an existing one's mode is kept where none is given. With
        ``durable`` it is on disk when this returns."""

    def overwrite(self, path: str, content: bytes, mtime_ns: int) -> None:
        """Write a file anew where it is, so that its other names show it, too: while nobody reads there."""

    def remove(self, path: str) -> None:
        """Remove a file or a link; nothing where it is not there."""

    def prune(self, path: str) -> None:
        """Remove the folders above ``path`` that are empty."""

    def clear(self, path: str, *, keep: bool = True) -> None:
        """Remove all files and links below the folder ``path``; with ``keep=False`` its folders and itself, too.
        Nothing where it is a link, or not there."""

    def make_root(self) -> bool:
        """Make the tree's top where it is missing; whether it is empty."""

    def relink(self, path: str, target: str) -> None:
        """Let a link lead elsewhere."""

    def leftovers(self) -> list[str]:
        """What interrupted writes have left beside their places (see `is_leftover`)."""

    def sync(self) -> None:
        """Force all that was written to the machine's disks."""


class Environments(Protocol):
    """Python's virtual environments on a host; each is named by its folder there."""

    def around(self, packages: str) -> str | None:
        """The one whose folder of packages that is; None where it is in none, or that has no interpreter."""

    def inside(self, environment: str, place: str) -> str | None:
        """Where a program or folder stands in an environment, by whatever way it is named; None when it does not."""

    def make(self, source: str, target: str, place: str = "") -> None:
        """A fresh one at ``target`` with what is installed in ``source``; its programs name ``place`` as where they
        are. Raises `KeenHarborError`."""

    def rename_inside(self, environment: str, place: str) -> None:
        """Let its programs name ``place`` as where they are."""

    def install(
        self, environment: str, wants: Sequence[str], removes: Sequence[str], wheelhouse: str | None,
        time_limit: float, variables: Mapping[str, str] | None = None, prefix: Sequence[str] = (),
    ) -> Ran:  # fmt: skip
        """Put distributions in place and take others out by its own installer (see `keenharbor.host.environment`)."""

    def put_in_place(self, new: str, home: str, kept_as: str) -> None:
        """Let ``home`` be the environment ``new``; the one that was there, if any, is ``kept_as``."""

    def kept(self, home: str) -> list[str]:
        """Those that were in the place of ``home`` before, the newest first."""

    def remove(self, environment: str) -> None: ...


@dataclass(frozen=True)
class Endpoint:
    """Where a database server listens: ``host`` and ``port``, or ``socket``."""

    host: str = ""
    port: int = 0
    socket: str = ""


class Host(Protocol):
    """The machine under a site."""

    @property
    def is_here(self) -> bool:
        """Whether it is the machine on which the tool runs."""

    @property
    def told(self) -> str:
        """Which it is, for people."""

    @property
    def sqlite_files(self) -> SqliteFiles | None:
        """How databases in files are opened that are not on this machine; None for those that are."""

    @property
    def programs(self) -> Programs:
        """Its programs."""

    @property
    def environments(self) -> Environments:
        """Its virtual environments."""

    def reading(self, place: str, *, leads_out: bool = False) -> ReadFiles:
        """The tree at ``place``. With ``leads_out``, what is asked for `through_links` may lie outside of it: for paths
        that a person named, and never where something is written."""

    def writing(self, place: str) -> Files:
        """The same, to be changed."""

    def reach(self, there: Endpoint) -> Endpoint:
        """How a database server that listens ``there``, as seen from the machine, is reached from this one."""

    def lease(
        self, name: str, what: str, wait_seconds: float = 0.0, *, doing: str = "", anew: bool = False
    ) -> contextlib.AbstractContextManager[int]:
        """Be the only one that holds ``name`` on the machine, for the time of the block, and get what a program is told
        to ``keep_open``; see `keenharbor.host.lease.held`. One that is made ``anew`` nobody can hold any more."""

    def note(self, name: str, content: bytes | None) -> None:
        """Keep a text of a change that is open with the machine, so that any other run finds it (None: no more)."""

    def noted(self, name: str) -> bytes | None:
        """What is kept so; None where nothing is."""

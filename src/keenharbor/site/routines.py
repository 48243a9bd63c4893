"""The tables of a site file that say what is done by itself: second places, routines, who is told."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from keenharbor.base.pace import Hours, read_rate
from keenharbor.base.schedule import Schedule
from keenharbor.site.part import Part, Text


def _rate(said: str | None) -> str | None:
    if said is not None:
        read_rate(said)
    return said


def _hours(said: str | None) -> str | None:
    if said is not None:
        Hours.read(said)
    return said


class KeepPart(Part):
    """Which snapshots a place keeps when it is thinned; one stays when any of these says so. Without one nothing
    goes."""

    newest: Annotated[int, Field(ge=0)] = 0
    days: Annotated[int, Field(ge=0, description="all that are younger")] = 0
    daily: Annotated[int, Field(ge=0, description="the newest of each of so many days")] = 0
    weekly: Annotated[int, Field(ge=0)] = 0
    monthly: Annotated[int, Field(ge=0)] = 0


class PlacePart(Part):
    """A second place for snapshots: a folder of another disk, or ``sftp://USER@HOST/FOLDER``, ``s3://BUCKET/PREFIX``
    (with ``endpoint``), ``webdavs://HOST/FOLDER``. What travels is sealed first. ``password`` says where the secret is:
    ``env:NAME`` or ``file:PATH``."""

    name: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]*$", max_length=40)]
    url: Annotated[str, Field(pattern=r"^(/|file:///|sftp://|s3://|webdavs?://)[^\s]*$")]
    user: Text | None = None
    password: Annotated[str, Field(pattern=r"^(env|file):.+$")] | None = None
    key_file: Text | None = Field(default=None, description="a key of SSH, where it is none of the user's usual ones")
    known_hosts: Text | None = Field(default=None, description="a file of known hosts, instead of the user's")
    endpoint: Annotated[str, Field(pattern=r"^https?://")] | None = None
    region: Text | None = None
    limit: Annotated[str | None, AfterValidator(_rate)] = Field(default=None, description='as "2 MiB/s", "10 Mbit/s"')
    hours: Annotated[str | None, AfterValidator(_hours)] = Field(default=None, description='as "22:00-06:00"')
    connections: Annotated[int, Field(ge=1, le=16)] = 4
    append_only: bool = Field(default=False, description="this machine may add and not remove; thin it from another")
    keep: KeepPart = KeepPart()


class LinePart(Part):
    """How the machine is reached whose folder ``root`` names with ``ssh://``; what is not said is as the user's
    configuration of SSH has it. ``password`` says where the secret is: ``env:NAME`` or ``file:PATH``."""

    key_file: Text | None = Field(default=None, description="a key of SSH, where it is none of the user's usual ones")
    known_hosts: Text | None = Field(default=None, description="a file of known hosts, instead of the user's")
    password: Annotated[str, Field(pattern=r"^(env|file):.+$")] | None = None
    python: Text = Field(default="python3", description="the interpreter there, from 3.9 on, that a helper is sent to")
    limit: Annotated[str | None, AfterValidator(_rate)] = Field(default=None, description='as "2 MiB/s", "10 Mbit/s"')
    files_only: bool = Field(default=False, description="run nothing there: files alone, by SFTP")


def _time(said: str | None) -> str | None:
    if said is not None and said != "never":
        Schedule.read(said)
    return said


Due = Annotated[str | None, AfterValidator(_time)]


class RoutinePart(Part):
    """What 'keenharbor tend' does, and when: as ``hourly``, ``every 6 hours``, ``daily 03:10``, ``weekly sunday
    04:00``, ``monthly 1 04:00``, ``after snapshot``, ``never``, or as cron has it. ``keep`` are the rules by which the
    store is thinned."""

    snapshot: Due = None
    unusual: Due = None
    send: Due = None
    verify: Due = None
    drill: Due = None
    thin: Due = None
    survey: Due = None
    look: Due = None
    ready: Due = None
    watch: Due = Field(default="1h 1d 3d 7d after cutover", description="'never', or hours and days after a cutover")
    minutes: Annotated[float, Field(gt=0, description="behind which no further duty is begun in one run")] = 240
    keep: KeepPart = KeepPart()


class MailboxPart(Part):
    """How mail is sent: by ``host`` and ``port``, under ``tls`` from the start or after STARTTLS; ``none`` is for a
    server on this machine."""

    to: Annotated[list[Text], Field(min_length=1)]
    sender: Text
    host: Text = "localhost"
    port: Annotated[int, Field(ge=1, le=65535)] = 587
    tls: Literal["starttls", "from the start", "none"] = "starttls"
    user: Text | None = None
    password: Annotated[str, Field(pattern=r"^(env|file):.+$")] | None = None


class TellPart(Part):
    """Who is told of what 'keenharbor tend' did: ``always``, only when something is ``wrong`` (and once when it is
    right again), or ``weekly`` of all and at once of what is wrong. ``webhook`` gets JSON; ``heartbeat`` is called when
    all went well, so that silence is noticed elsewhere."""

    when: Literal["always", "wrong", "weekly"] = "wrong"
    mail: MailboxPart | None = None
    webhook: Annotated[str, Field(pattern=r"^https?://")] | None = None
    heartbeat: Annotated[str, Field(pattern=r"^https?://")] | None = None

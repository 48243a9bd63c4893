"""Having 'keenharbor tend' run by itself: a timer of systemd, or a line of crontab. No daemon of our own."""

from __future__ import annotations

import os
import shlex
import tempfile
from dataclasses import dataclass
from pathlib import Path

from keenharbor.base.durable import private_folder, remove_file, write_durably, write_plain
from keenharbor.base.errors import KeenHarborError
from keenharbor.host.programs import find_program, run_program

MINUTES = 15
_SECONDS = 30


@dataclass(frozen=True)
class Timer:
    """What is put in place for a site: files by path, or a line of crontab; the commands that switch it on and off."""

    name: str
    files: dict[Path, str]
    cron_line: str = ""
    switch_on: tuple[tuple[str, ...], ...] = ()
    switch_off: tuple[tuple[str, ...], ...] = ()

    @property
    def shown(self) -> str:
        """For people: what is written where, and what is run."""
        parts = [f"{path}\n{text}" for path, text in self.files.items()]
        if self.cron_line:
            parts.append(f"your crontab gets the line\n{self.cron_line}\n")
        return "\n".join([*parts, *(f"$ {shlex.join(c)}" for c in self.switch_on)])


def systemd_timer(site: str, site_file: Path, program: tuple[str, ...], *, for_all: bool) -> Timer:
    """A timer of the system's (``for_all``: as root) or of the user's own."""
    folder = Path("/etc/systemd/system") if for_all else Path("~/.config/systemd/user").expanduser()
    name = f"keenharbor-{site}"
    words = shlex.join([*program, "tend", "--site", str(site_file)]).replace("%", "%%").replace("$", "$$")
    service = (
        f"[Unit]\nDescription=What is due of the site {site}\n\n[Service]\nType=oneshot\nExecStart={words}\n"
        "SuccessExitStatus=1\nNice=10\nIOSchedulingClass=idle\n"
    )
    timer = (
        f"[Unit]\nDescription=Look every {MINUTES} minutes what is due of the site {site}\n\n[Timer]\n"
        f"OnCalendar=*:0/{MINUTES}\nRandomizedDelaySec=120\nPersistent=true\n\n[Install]\nWantedBy=timers.target\n"
    )
    control = ("systemctl",) if for_all else ("systemctl", "--user")
    return Timer(
        name, {folder / f"{name}.service": service, folder / f"{name}.timer": timer}, "",
        ((*control, "daemon-reload"), (*control, "enable", "--now", f"{name}.timer")),
        ((*control, "disable", "--now", f"{name}.timer"),),
    )  # fmt: skip


def cron_timer(site: str, site_file: Path, program: tuple[str, ...]) -> Timer:
    """A line of the user's crontab."""
    words = shlex.join([*program, "tend", "--site", str(site_file)]).replace("%", "\\%")
    return Timer(f"keenharbor-{site}", {}, f"*/{MINUTES} * * * * {words} >/dev/null 2>&1  # keenharbor-{site}")


def put_in(timer: Timer) -> None:
    """Put it in place, and switch it on. Raises `KeenHarborError`; then nothing of it is left."""
    try:
        if timer.cron_line:
            _crontab([*_cron_lines(timer.name), timer.cron_line])
        for path, text in timer.files.items():
            private_folder(path.parent)
            write_durably(path, text.encode(), mode=0o644)
        for command in timer.switch_on:
            _run(command)
    except (OSError, KeenHarborError):
        for path in timer.files:
            remove_file(path)
        raise


def is_there(timer: Timer) -> bool:
    """Whether one of its kind is in place."""
    if timer.cron_line:
        return find_program("crontab") is not None and len(_cron_lines("")) > len(_cron_lines(timer.name))
    return any(path.exists() for path in timer.files)


def take_out(timer: Timer) -> None:
    """Switch it off, and take it out again. Raises `KeenHarborError`."""
    if timer.cron_line:
        _crontab(_cron_lines(timer.name))
        return
    for command in timer.switch_off:
        _run(command)
    for path in timer.files:
        remove_file(path)
    if timer.switch_on:
        _run(timer.switch_on[0])


def _cron_lines(without: str) -> list[str]:
    """The lines of the user's crontab, without ours of this name."""
    ran = run_program(["crontab", "-l"], folder=Path("/"), time_limit=_SECONDS)
    lines = ran.output.splitlines() if ran.code == 0 else []
    return [line for line in lines if not without or not line.endswith(f"# {without}")]


def _crontab(lines: list[str]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "crontab"
        write_plain(file, "".join(f"{line}\n" for line in lines).encode("utf-8", "surrogateescape"))
        _run(("crontab", str(file)))


def _run(command: tuple[str, ...]) -> None:
    if find_program(command[0]) is None:
        raise KeenHarborError(
            f"the program {command[0]} is not on this machine",
            advice="keenharbor tend --install cron" if command[0] == "systemctl" else None,
        )
    ran = run_program(command, folder=Path("/"), time_limit=_SECONDS, environment=dict(os.environ))
    if ran.code != 0:
        raise KeenHarborError(f"'{shlex.join(command)}' failed: {ran.output.strip()[:300]}")

"""Python's virtual environments: made anew from what is installed in another, and changed by the environment's own
installer.

A copied environment would still install into the one that it was copied from, since its programs name that one's
interpreter. So a fresh one is made, and what is installed is put into it; programs by the records of their
distributions (https://packaging.python.org/en/latest/specifications/recording-installed-packages/). No network is
needed, and what somebody edited or added comes along."""

from __future__ import annotations

import os
import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path

from keenharbor.base.durable import remove_folder
from keenharbor.base.errors import KeenHarborError
from keenharbor.host.programs import ProgramError, Ran, ask_program, clean_environment, run_program

_SECONDS = 120
_FOR_THE_INSTALLER = ("PIP_", "SSL_CERT_", "REQUESTS_CA_", "HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY")


class EnvironmentsHere:
    """The virtual environments of this machine (see `keenharbor.host.protocol.Environments`)."""

    def around(self, packages: str) -> str | None:
        place = Path(packages).resolve()
        home = next((p for p in place.parents if (p / "pyvenv.cfg").is_file()), None)
        return str(home) if home is not None and (home / "bin/python").exists() else None

    def inside(self, environment: str, place: str) -> str | None:
        # What it is named by may be a link; the interpreter itself is a link to one outside.
        named = Path(place).absolute()
        real = named.parent.resolve() / named.name
        return real.relative_to(environment).as_posix() if real.is_relative_to(environment) else None

    def make(self, source: str, target: str, place: str = "") -> None:
        make_environment(Path(source), Path(target), Path(place or target))

    def rename_inside(self, environment: str, place: str) -> None:
        rename_inside(Path(environment), Path(place))

    def install(
        self, environment: str, wants: Sequence[str], removes: Sequence[str], wheelhouse: str | None,
        time_limit: float, variables: Mapping[str, str] | None = None, prefix: Sequence[str] = (),
    ) -> Ran:  # fmt: skip
        return install(Path(environment), wants, removes, wheelhouse, time_limit, variables, prefix)

    def put_in_place(self, new: str, home: str, kept_as: str) -> None:
        put_in_place(Path(new), Path(home), Path(kept_as))

    def kept(self, home: str) -> list[str]:
        place = Path(home)
        return [str(f) for f in sorted(place.parent.glob(f".{place.name}.before-*"), reverse=True)]

    def remove(self, environment: str) -> None:
        remove_folder(Path(environment))


def make_environment(source: Path, target: Path, place: Path | None = None) -> None:
    """A fresh environment at ``target`` with what is installed in ``source``; its programs name ``place`` (``target``)
    as where they are. Raises `KeenHarborError` when it cannot be made."""
    place = place or target
    command = [str(source / "bin/python"), "-I", "-m", "venv", "--without-pip", str(target)]
    ran = run_program(command, folder=source, time_limit=_SECONDS, environment=clean_environment())
    if ran.code != 0:
        raise KeenHarborError(
            f"no virtual environment can be made: {ran.output.strip()[-200:]}", where=source,
            advice="install Python's own module venv (python3-venv)",
        )  # fmt: skip
    for packages in sorted(source.glob("lib/python*/site-packages")):
        there = target / packages.relative_to(source)
        # Whole, with what no record names: generated migrations, edits, a settings file that somebody put there.
        shutil.copytree(packages, there, symlinks=True, dirs_exist_ok=True)
        import importlib.metadata

        for item in importlib.metadata.distributions(path=[str(packages)]):
            for file in item.files or ():
                if file.parts[:1] == ("..",):
                    _put(Path(os.path.normpath(packages / file)), source, target, place)
        for path_file in there.glob("*.pth"):
            _point(path_file, source, place)


def _put(file: Path, source: Path, target: Path, place: Path) -> None:
    if not file.is_relative_to(source) or not file.is_file():
        return  # what an installer put elsewhere on the machine is not the environment's
    copy = target / file.relative_to(source)
    if not copy.exists():
        copy.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy2(file, copy)
        _point(copy, source, place)


def _point(file: Path, source: Path, place: Path) -> None:
    point_to(file, str(source), str(place))


def point_to(file: Path, source: str, place: str) -> None:
    """Let a program or a path file name ``place`` where it named ``source``."""
    old, new = os.fsencode(source), os.fsencode(place)
    data = file.read_bytes()
    if old in data:
        mode = file.stat().st_mode
        file.write_bytes(data.replace(old, new))
        file.chmod(mode)


def rename_inside(environment: Path, place: Path) -> None:
    """Let the programs of an environment, those that were just installed too, name ``place`` as where they are."""
    for file in (*sorted((environment / "bin").iterdir()), environment / "pyvenv.cfg"):
        if file.is_file() and not file.is_symlink():
            _point(file, environment, place)


def install(
    environment: Path, wants: Sequence[str], removes: Sequence[str], wheelhouse: str | None, time_limit: float,
    variables: Mapping[str, str] | None = None, prefix: Sequence[str] = (),
) -> Ran:  # fmt: skip
    """Let the environment's own installer put ``wants`` (``name==version``) in place and take ``removes`` out; with a
    ``wheelhouse`` from there alone. It gets ``variables`` in its environment. The last thing that it prints is what
    does not go together since, if anything. Its programs are started with ``prefix``."""
    program = str(environment / "bin/python")
    try:
        ask_program([*prefix, program, "-I", "-c", "import pip"], seconds=_SECONDS)
    except ProgramError:
        raise KeenHarborError(
            "the environment has no installer (pip)", where=environment, advice="install pip into it"
        ) from None
    told = {k: v for k, v in os.environ.items() if k.upper().startswith(_FOR_THE_INSTALLER)} | dict(variables or {})
    base = [*prefix, program, "-I", "-m", "pip", "--no-input", "--disable-pip-version-check"]
    before = _complaints(base)
    output, seconds = "", 0.0
    commands = []
    if removes:
        commands.append([*base, "uninstall", "--yes", *removes])
    if wants:
        source = ["--no-index", "--find-links", str(wheelhouse)] if wheelhouse is not None else []
        commands.append([*base, "install", *source, *wants])
    ran = Ran("", 0, "", 0.0)
    for command in commands:
        left = max(1.0, time_limit - seconds)
        ran = run_program(command, folder=environment, time_limit=left, environment=clean_environment() | told)
        output, seconds = output + ran.output, seconds + ran.seconds
        if ran.code != 0:
            return Ran(ran.command, ran.code, output, seconds)
    new = [line for line in _complaints(base) if line not in before]
    return Ran(ran.command, 1 if new else 0, "\n".join([output.strip(), *new]), seconds)


def _complaints(base: Sequence[str]) -> list[str]:
    done = run_program([*base, "check"], folder=Path("/"), time_limit=_SECONDS, environment=clean_environment())
    return [] if done.code == 0 else done.output.strip().splitlines()


def put_in_place(new: Path, home: Path, kept_as: Path) -> None:
    """Let ``home`` be the environment ``new``; the one that was there, if any, is ``kept_as``."""
    if home.exists():
        home.rename(kept_as)
    new.rename(home)

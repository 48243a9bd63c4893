"""A private web server of this machine, on which rules for one are tried: Apache or nginx, where it is installed.

It serves one page from a folder of its own, on loopback, and nothing of a site: only the rules are the site's. What
they are tried with is written by the caller through `place` and `remove`."""

from __future__ import annotations

import grp
import os
import pwd
import shutil
import tempfile
import time
from pathlib import Path, PurePosixPath
from types import TracebackType
from typing import Literal

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.host.ports import port_is_taken
from keenharbor.host.programs import Running, clean_environment, find_program

WebServerKind = Literal["apache", "nginx"]
_PROGRAMS: dict[WebServerKind, tuple[str, ...]] = {"apache": ("apache2", "httpd"), "nginx": ("nginx",)}
_PLACES = os.pathsep.join(("/usr/sbin", "/usr/local/sbin", "/usr/local/bin", "/usr/local/apache2/bin"))
_MODULE_FOLDERS = ("/usr/lib/apache2/modules", "/usr/lib64/httpd/modules", "/usr/lib/httpd/modules",
                   "/usr/libexec/apache2", "/usr/local/apache2/modules")  # fmt: skip
# What rules in a site's folder commonly speak of; one that is built in is not loaded.
_MODULES = ("mpm_event", "unixd", "authz_core", "authz_host", "access_compat", "authn_core", "auth_basic", "dir",
    "mime",
            "alias", "rewrite", "headers", "setenvif", "env", "filter", "deflate", "expires", "negotiation",
            "autoindex")  # fmt: skip
_SECONDS = 15
PAGE = "a page of the private web server"


def missing_web_server(kind: WebServerKind) -> str | None:
    """Why none can be started here; None where one can."""
    if _program(kind) is None:
        return f"{' or '.join(_PROGRAMS[kind])} is not installed on this machine"
    if kind == "apache" and _modules() is None:
        return "the modules of Apache were not found on this machine"
    return None


def _program(kind: WebServerKind) -> str | None:
    path = os.pathsep.join((os.environ.get("PATH", ""), _PLACES))
    return next((found for name in _PROGRAMS[kind] if (found := find_program(name, path))), None)


def _modules() -> Path | None:
    return next((Path(f) for f in _MODULE_FOLDERS if (Path(f) / "mod_rewrite.so").is_file()), None)


class PrivateWebServer:
    """Runs for the time of a ``with`` block on loopback ``port``. For nginx the file ``included`` (a path in its
    folder) is read inside its ``server``; Apache reads ``.htaccess``.

    Raises `UsageError` where none is installed, `KeenHarborError` when it does not start."""

    def __init__(self, kind: WebServerKind, port: int, included: str | None = None) -> None:
        if (why := missing_web_server(kind)) is not None:
            raise UsageError(why)
        self.kind, self.port, self._included = kind, port, included
        self._running: Running | None = None

    @property
    def address(self) -> str:
        """Where the page is asked for."""
        return f"http://127.0.0.1:{self.port}"

    @property
    def folder(self) -> Path:
        """The folder whose files stand at the address."""
        return self._top / "served"

    def __enter__(self) -> PrivateWebServer:
        self._top = Path(tempfile.mkdtemp(prefix="harbor-front-"))
        # Its workers run as another user, and the folder holds nothing but rules.
        self._top.chmod(0o755)
        self.place("index.html", PAGE.encode())
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()
        shutil.rmtree(self._top, ignore_errors=True)

    def place(self, path: str, content: bytes) -> None:
        """Write a file into the folder that it serves."""
        file = self.folder / PurePosixPath(path)
        file.parent.mkdir(parents=True, exist_ok=True, mode=0o755)
        file.write_bytes(content)
        file.chmod(0o644)

    def remove(self, path: str) -> None:
        """Take a file out of it."""
        (self.folder / PurePosixPath(path)).unlink(missing_ok=True)

    def start(self) -> None:
        """Start it and wait until it listens."""
        program = _program(self.kind)
        assert program is not None
        configured = self._top / "server.conf"
        configured.write_text(self._apache() if self.kind == "apache" else self._nginx())
        words = {
            "apache": [program, "-f", str(configured), "-DFOREGROUND"],
            "nginx": [program, "-p", str(self._top), "-c", str(configured), "-e", str(self._top / "error.log")],
        }[self.kind]
        self._log = self._top / "said.log"
        self._running = Running(words, folder="/", log=self._log, environment=clean_environment())
        end = time.monotonic() + _SECONDS
        while not port_is_taken(self.port):
            if self._running.ended() or time.monotonic() > end:
                said = self._log.read_text(errors="replace").strip()[-300:]
                self.stop()
                raise KeenHarborError(f"the private web server does not start: {said or 'it says nothing'}")
            time.sleep(0.02)

    def stop(self) -> None:
        """End it."""
        if self._running is not None:
            self._running.stop()
        self._running = None

    def _apache(self) -> str:
        folder = _modules()
        loaded = "".join(
            f'<IfModule !{name}_module>\nLoadModule {name}_module "{folder}/mod_{name}.so"\n</IfModule>\n'
            for name in _MODULES
            if (folder / f"mod_{name}.so").is_file()  # type: ignore[operator]
        )
        return (
            f'{loaded}{_apache_user()}ServerRoot "{self._top}"\nDefaultRuntimeDir "{self._top}"\n'
            f'PidFile "{self._top}/server.pid"\nServerName 127.0.0.1\nListen 127.0.0.1:{self.port}\n'
            f'ErrorLog "{self._top}/said.log"\nDocumentRoot "{self.folder}"\nDirectoryIndex index.html\n'
            "TypesConfig /dev/null\nAddType text/html .html\n"
            f'<Directory "{self.folder}">\nAllowOverride All\nRequire all granted\n</Directory>\n'
        )

    def _nginx(self) -> str:
        user = "user root;\n" if os.geteuid() == 0 else ""
        top = self._top
        temporary = "".join(
            f'{part}_temp_path "{top}/{part}";\n' for part in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
        )
        included = f'include "{self.folder / self._included}";\n' if self._included else ""
        return (
            f'{user}daemon off;\npid "{top}/server.pid";\nworker_processes 1;\nevents {{ worker_connections 64; }}\n'
            f"http {{\naccess_log off;\n{temporary}server {{\nlisten 127.0.0.1:{self.port};\n"
            f'root "{self.folder}";\nindex index.html;\n{included}}}\n}}\n'
        )


def _apache_user() -> str:
    """Apache's workers never run as the superuser."""
    if os.geteuid() != 0:
        return ""
    nobody = pwd.getpwnam("nobody")
    return f"User {nobody.pw_name}\nGroup {grp.getgrgid(nobody.pw_gid).gr_name}\n"

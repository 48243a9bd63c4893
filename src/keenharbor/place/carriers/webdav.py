"""A place behind WebDAV (RFC 4918), by webdav4 on httpx."""

from __future__ import annotations

import contextlib
import io
import threading
from collections.abc import Callable
from typing import TypeVar
from urllib.parse import quote, urlsplit

from keenharbor.place.carriers import MOST_NAMES, CarrierError, Names, NotThereError, Pace, Whither, is_plain

T = TypeVar("T")
_BLOCK = 256 * 1024


class _Paced(io.BytesIO):
    """Content that is read no faster than it may be sent."""

    def __init__(self, data: bytes, pace: Pace) -> None:
        super().__init__(data)
        self._pace = pace

    def read(self, count: int | None = -1) -> bytes:
        block = super().read(_BLOCK if count is None or count < 0 else count)
        self._pace(len(block))
        return block


class WebdavCarrier:
    """Objects below a collection: ``webdavs://HOST/PATH`` goes by https, ``webdav://`` by http."""

    resumes = False

    def __init__(self, whither: Whither, *, makes: bool) -> None:
        from webdav4.client import Client

        parts = urlsplit(whither.url)
        scheme = "https" if parts.scheme == "webdavs" else "http"
        host = parts.netloc.rpartition("@")[2]
        login = whither.user or parts.username
        self._base = whither.path.strip("/")
        self._client = Client(
            f"{scheme}://{host}", auth=(login, whither.password or "") if login else None, timeout=60,
            follow_redirects=False,
        )  # fmt: skip
        self._made: set[str] = {""}
        self._lock = threading.Lock()
        if makes:
            self._trying(lambda: self._collection(self._base), "")

    def _path(self, name: str) -> str:
        return f"{self._base}/{name}".strip("/")

    def _trying(self, do: Callable[[], T], name: str) -> T:
        from httpx import HTTPError, HTTPStatusError
        from webdav4.client import ClientError, ForbiddenOperation, ResourceNotFound
        from webdav4.client import HTTPError as StatusError

        try:
            return do()
        except ResourceNotFound:
            raise NotThereError(name) from None
        except (StatusError, HTTPStatusError) as error:
            status = error.response.status_code
            if status == 404:
                raise NotThereError(name) from None
            passing = status >= 500 or status in (408, 409, 423, 425, 429)
            raise CarrierError(
                f"the place answers {status} {error.response.reason_phrase}".rstrip(), passing=passing and status != 507
            ) from None
        except ForbiddenOperation as error:
            raise CarrierError(f"the place forbids it: {error}", passing=False) from None
        except (ClientError, HTTPError, OSError, ValueError) as error:
            raise CarrierError(f"the place: {str(error) or type(error).__name__}") from None

    def _collection(self, path: str) -> None:
        """Make a collection and those above it."""
        with self._lock:
            so_far = ""
            for part in path.split("/"):
                so_far = f"{so_far}/{part}".strip("/")
                if so_far not in self._made:
                    if not self._client.exists(so_far):
                        with contextlib.suppress(FileExistsError):
                            self._client.mkdir(so_far)
                    self._made.add(so_far)

    def put(self, name: str, data: bytes, pace: Pace) -> None:
        def send() -> None:
            path = self._path(name)
            self._collection(path.rpartition("/")[0])
            answer = self._client.http.put(
                self._client.join_url(path), content=iter(lambda: paced.read(_BLOCK), b""),
                headers={"Content-Length": str(len(data)), "If-None-Match": "*"},
            )  # fmt: skip
            answer.raise_for_status()

        paced = _Paced(data, pace)
        self._trying(send, name)

    def get(self, name: str, most: int, pace: Pace) -> bytes:
        def fetch() -> bytes:
            parts: list[bytes] = []
            size = 0
            with self._client.http.stream("GET", quote(f"/{self._path(name)}")) as answer:
                answer.raise_for_status()
                for block in answer.iter_bytes(_BLOCK):
                    size += len(block)
                    if size > most:
                        raise CarrierError(f"'{name}' is larger than it is to be", passing=False)
                    pace(len(block))
                    parts.append(block)
            return b"".join(parts)

        return self._trying(fetch, name)

    def sizes(self, under: str) -> dict[str, int]:
        found = Names()
        waiting = [self._path(under)]
        before = len(self._base) + 1 if self._base else 0
        seen = set(waiting)
        while waiting:
            folder = waiting.pop()
            try:
                items = self._trying(lambda f=folder: self._client.ls(f, detail=True), folder)  # type: ignore[misc]
            except NotThereError:
                continue
            for item in items:
                path = str(item["name"]).strip("/")
                name = path[before:]
                if not is_plain(name) or not path.startswith(folder) or path in seen:
                    continue
                if item["type"] == "directory":
                    if len(seen) >= MOST_NAMES:
                        raise CarrierError("the place lists more folders than any has", passing=False)
                    seen.add(path)
                    waiting.append(path)
                else:
                    found.note(name, int(item["content_length"] or 0))
        return found

    def remove(self, name: str) -> None:
        with contextlib.suppress(NotThereError):
            self._trying(lambda: self._client.remove(self._path(name)), name)

    def close(self) -> None:
        self._client.http.close()

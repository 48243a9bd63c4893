"""A place in S3-compatible storage, by obstore.

Chosen over an interpreter-side driver by measurement (benchmarks/README.md): it sends and fetches outside Python's
lock, so that sealing the next parcel goes on meanwhile."""

from __future__ import annotations

import re
from urllib.parse import urlsplit

from keenharbor.base.errors import UsageError
from keenharbor.place.carriers import CarrierError, Names, NotThereError, Pace, Whither

_REFUSED = re.compile(r": 4(?!08|09|25|29)\d\d [A-Z]")
"""An answer that will be the same in a moment: the client tells of most only in words."""


class S3Carrier:
    """Objects below a prefix of a bucket (``s3://BUCKET/PREFIX``)."""

    resumes = False

    def __init__(self, whither: Whither) -> None:
        from obstore.store import S3Store

        parts = urlsplit(whither.url)
        self._prefix = whither.path.strip("/")
        if whither.user is None or whither.password is None:
            raise UsageError(
                "storage wants an access key", where=whither.told,
                advice="say user = \"ID\" and password = \"env:NAME\" or \"file:PATH\" for the place",
            )  # fmt: skip
        config = {
            "aws_access_key_id": whither.user, "aws_secret_access_key": whither.password,
            "aws_region": whither.region or "us-east-1",
        }  # fmt: skip
        if whither.endpoint is not None:
            config["aws_endpoint"] = whither.endpoint
        plain = whither.endpoint is not None and whither.endpoint.startswith("http://")
        self._store = S3Store(
            parts.hostname or "", config=config,  # type: ignore[arg-type]
            client_options={"allow_http": plain, "timeout": "60s"},
            retry_config={"max_retries": 0},
        )  # fmt: skip

    def _path(self, name: str) -> str:
        return f"{self._prefix}/{name}" if self._prefix else name

    @staticmethod
    def _told(error: Exception, name: str) -> CarrierError:
        from obstore.exceptions import PermissionDeniedError, UnauthenticatedError

        words = " ".join(str(error).split())[:300]
        if isinstance(error, FileNotFoundError) and "NoSuchBucket" not in words:
            return NotThereError(name)
        firm = isinstance(error, PermissionDeniedError | UnauthenticatedError | FileNotFoundError)
        firm = firm or bool(_REFUSED.search(words))
        return CarrierError(f"the storage refused: {words}" if firm else f"the storage: {words}", passing=not firm)

    def put(self, name: str, data: bytes, pace: Pace) -> None:
        import obstore

        pace(len(data))
        try:
            obstore.put(self._store, self._path(name), data, use_multipart=False)
        except Exception as error:  # what it raises is of many kinds, each told in words
            raise self._told(error, name) from None

    def get(self, name: str, most: int, pace: Pace) -> bytes:
        import obstore

        try:
            found = obstore.get(self._store, self._path(name))
            size = int(found.meta["size"])
            if size > most:
                raise CarrierError(f"'{name}' is larger than it is to be", passing=False)
            pace(size)
            return bytes(found.bytes())
        except CarrierError:
            raise
        except Exception as error:
            raise self._told(error, name) from None

    def sizes(self, under: str) -> dict[str, int]:
        import obstore

        found = Names()
        before = len(self._prefix) + 1 if self._prefix else 0
        try:
            for batch in obstore.list(self._store, prefix=self._path(under) or None):
                for item in batch:
                    found.note(str(item["path"])[before:], int(item["size"]))
        except CarrierError:
            raise
        except Exception as error:
            raise self._told(error, under) from None
        return found

    def remove(self, name: str) -> None:
        import obstore

        try:
            obstore.delete(self._store, self._path(name))
        except FileNotFoundError:
            pass
        except Exception as error:
            raise self._told(error, name) from None

    def close(self) -> None:
        pass

"""Make a recorded index from a folder of wheels, for `[feed] index`: so `keenharbor ready` works with no network.

pip download -d wheels wagtail==7.0 wagtail==8.0 …
python examples/wagtail/record_index.py wheels index
"""

from __future__ import annotations

import email.parser
import hashlib
import json
import sys
import zipfile
from collections import defaultdict
from pathlib import Path

from packaging.utils import canonicalize_name, parse_wheel_filename


def record(wheels: Path, index: Path) -> None:
    """Write the answers of the simple repository API (PEP 691) for ``wheels``, with each wheel's own metadata (PEP
    658)."""
    files = defaultdict(list)
    versions: dict[str, set[str]] = defaultdict(set)
    index.mkdir(parents=True, exist_ok=True)
    for wheel in sorted(wheels.glob("*.whl")):
        name, version, _, _ = parse_wheel_filename(wheel.name)
        with zipfile.ZipFile(wheel) as archive:
            (inside,) = (n for n in archive.namelist() if n.endswith(".dist-info/METADATA"))
            metadata = archive.read(inside)
        (index / f"{wheel.name}.metadata").write_bytes(metadata)
        told = email.parser.BytesParser().parsebytes(metadata)
        sums = {"sha256": hashlib.sha256(wheel.read_bytes()).hexdigest()}
        files[name].append({
            "filename": wheel.name, "url": wheel.name, "hashes": sums, "size": wheel.stat().st_size,
            "requires-python": told["Requires-Python"],
            "core-metadata": {"sha256": hashlib.sha256(metadata).hexdigest()},
        })  # fmt: skip
        versions[name].add(str(version))
    for name, listed in files.items():
        answer = {"meta": {"api-version": "1.1"}, "name": name, "versions": sorted(versions[name]), "files": listed}
        (index / f"{canonicalize_name(name)}.json").write_text(json.dumps(answer, indent=1))


if __name__ == "__main__":
    record(Path(sys.argv[1]), Path(sys.argv[2]))

"""What an archive of a snapshot is made of: what writing and reading one share."""

from __future__ import annotations

from typing import Literal

ArchiveForm = Literal["tar.zst", "tar.gz", "zip"]


ARCHIVE_FORM = "keenharbor-export-1"


LARGEST_MANIFEST = 1 << 28


LARGEST_HEAD = 1 << 20


PART = 1 << 20

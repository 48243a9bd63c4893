"""The run: one command as it was typed, with all that it starts, under one id."""

from __future__ import annotations

import os
import secrets
from functools import cache

VARIABLE = "KEENHARBOR_RUN"


@cache
def run_id() -> str:
    """The id of this run; what a run starts has the same."""
    return os.environ.get(VARIABLE) or secrets.token_hex(4)

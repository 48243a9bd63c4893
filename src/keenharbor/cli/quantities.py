"""Sizes and times as people type them on the command line."""

from __future__ import annotations

import re
from datetime import timedelta

import click

_UNITS = {"": 1, "K": 1 << 10, "M": 1 << 20, "G": 1 << 30, "T": 1 << 40}
_SECONDS = {"m": 60, "h": 3600, "d": 86_400, "w": 604_800}


class _Bytes(click.ParamType[int]):
    name = "size"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> int:
        if isinstance(value, int):
            return value
        found = re.fullmatch(r"(\d+(?:\.\d+)?)\s*([KMGT]?)(?:i?B)?", str(value).strip(), re.IGNORECASE)
        if found is None:
            self.fail(f"'{value}' is no size; write 500M or 20G", param, ctx)
        return int(float(found[1]) * _UNITS[found[2].upper()])


class _Duration(click.ParamType[timedelta]):
    name = "time"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> timedelta:
        if isinstance(value, timedelta):
            return value
        found = re.fullmatch(r"(\d+(?:\.\d+)?)\s*([mhdw])", str(value).strip())
        if found is None:
            self.fail(f"'{value}' is no length of time; write 36h, 14d or 8w", param, ctx)
        return timedelta(seconds=float(found[1]) * _SECONDS[found[2]])


BYTES = _Bytes()
DURATION = _Duration()

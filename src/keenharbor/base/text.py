"""Figures as people read them: sizes, times, ages, plurals."""

from __future__ import annotations

from datetime import date, datetime, timezone

UTC = timezone.utc  # noqa: UP017 - this runs on far machines, too, whose Python may be older
_SIZE_UNITS = ("B", "KiB", "MiB", "GiB", "TiB")


def size(count: float) -> str:
    """Bytes in binary units, three significant digits: ``412 KiB``."""
    value = float(count)
    for unit in _SIZE_UNITS:
        if value < 1000 or unit == _SIZE_UNITS[-1]:
            return f"{value:.0f} {unit}" if unit == "B" or value >= 100 else f"{value:.1f} {unit}"
        value /= 1024
    raise AssertionError("unreachable")


def plural(count: int, one: str, many: str | None = None) -> str:
    """``1 row``, ``1,204 rows``."""
    return f"{count:,} {one if count == 1 else (many or one + 's')}"


def now() -> datetime:
    """The present instant, in UTC, to the second's fraction."""
    return datetime.now(UTC)


def today() -> date:
    """The present day, in UTC."""
    return now().date()


def stamp(moment: datetime) -> str:
    """An instant as it is stored: ISO 8601 in UTC."""
    return moment.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def parse_stamp(text: str) -> datetime:
    """The instant that `stamp` wrote."""
    return datetime.fromisoformat(text)


def age(moment: datetime, at: datetime | None = None) -> str:
    """How long ago: ``3 hours ago``."""
    seconds = ((at or now()) - moment).total_seconds()
    if seconds < 45:
        return "just now"
    for unit, length, limit in (
        ("minute", 60, 90 * 60),
        ("hour", 3600, 36 * 3600),
        ("day", 86400, 60 * 86400),
        ("month", 30.44 * 86400, 24 * 30.44 * 86400),
    ):
        if seconds < limit:
            return f"{plural(max(1, round(seconds / length)), unit)} ago"
    return f"{plural(round(seconds / (365.25 * 86400)), 'year')} ago"


def short_age(moment: datetime, at: datetime | None = None) -> str:
    """How long ago, for a narrow column: ``14 min``, ``3 h``, ``12 d``."""
    seconds = ((at or now()) - moment).total_seconds()
    for unit, length, limit in (("min", 60, 90 * 60), ("h", 3600, 36 * 3600), ("d", 86400, 400 * 86400)):
        if seconds < limit:
            return f"{max(0, int(seconds // length))} {unit}"
    return f"{seconds / (365.25 * 86400):.1f} y"


def when(moment: datetime, at: datetime | None = None) -> str:
    """Age and exact local time: ``3 hours ago (2026-11-25 10:04:11)``."""
    return f"{age(moment, at)} ({moment.astimezone():%Y-%m-%d %H:%M:%S})"


def duration(seconds: float) -> str:
    """``84 ms``, ``3.2 s``, ``4 min 05 s``."""
    if seconds < 1:
        return f"{seconds * 1000:.0f} ms"
    if seconds < 100:
        return f"{seconds:.1f} s"
    return f"{int(seconds) // 60} min {int(seconds) % 60:02d} s"


def shorten(text: str, width: int) -> str:
    """``text`` on one line, cut in the middle of nothing, at most ``width`` characters."""
    flat = " ".join(text.split())
    return flat if len(flat) <= width else flat[: max(1, width - 1)] + "…"


def _visible_forms() -> dict[int, str]:
    shown = {c: chr(0x2400 + c) for c in range(0x20) if chr(c) not in "\n\t"}  # Control Pictures
    shown[0x7F] = "\u2421"
    shown |= {c: f"<{c:02X}>" for c in range(0x80, 0xA0)}
    # What changes the direction of what follows, or hides in it (Unicode, UAX #9 and category Cf).
    hidden = (*range(0x200B, 0x2010), *range(0x2028, 0x202F), *range(0x2060, 0x2070), 0xFEFF, *range(0xFFF9, 0xFFFC))
    return shown | {c: f"<{c:04X}>" for c in hidden}


_VISIBLE = _visible_forms()


def visible(text: str) -> str:
    """``text`` for a terminal: what would move the cursor, change colours, titles or the direction of writing is shown,
    not done. Line ends and tabs stay; what is no character (a surrogate) becomes one that says so."""
    return text.translate(_VISIBLE).encode("utf-8", "replace").decode("utf-8")

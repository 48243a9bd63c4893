"""The standard helpers of loam 2."""

import datetime
import html

VERSION = (2, 7, 1)


def text(value):
    """A value as text for a page; nothing becomes an empty text."""
    return "" if value is None else str(value)


def escape(value):
    return html.escape(text(value), quote=True)


def fold(name):
    """A name without case and outer blanks, for comparing."""
    return name.strip().casefold()


def day_text(day):
    """A day as text, year first."""
    return day.strftime("%Y-%m-%d")


def today():
    return datetime.date.today()

"""The standard helpers of loam 3: `fold` is gone, `text` is strict, and days are written day first."""

import datetime
import html

VERSION = (3, 1, 0)


class StrictError(TypeError):
    """A value was used where the language wants a text."""


def text(value):
    """A value as text for a page; nothing is an error since loam 3."""
    if value is None:
        raise StrictError("nothing was given where a text is wanted")
    return str(value)


def escape(value):
    return html.escape(text(value), quote=True)


def day_text(day):
    """A day as text, day first since loam 3."""
    return day.strftime("%d.%m.%Y")


def today():
    return datetime.date.today()

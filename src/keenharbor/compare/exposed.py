"""What a page shows that is nobody's business: the words of an error page, of a debugger, or a secret of the site."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator

from keenharbor.compare.findings import Observation, Weight
from keenharbor.compare.markup import Markup

SHORTEST_SECRET = 8
"""Shorter values stand in pages by chance."""
DEBUGGING = re.compile(
    r"Traceback \(most recent call last\)|\bStack trace:|\bDEBUG\s*=\s*True\b|\bFatal error:\s|\bParse error:\s|"
    r"\b(?:Warning|Notice|Deprecated): [^\n]{4,200}? on line \d+|\bUncaught \w*(?:Error|Exception)\b|\bSQLSTATE\[|"
    r"\bProgrammingError\b|\bOperationalError\b"
)
"""Words of error pages for developers, in the common runtimes."""


def exposures(path: str, before: Markup | None, after: Markup, secrets: Collection[str]) -> Iterator[Observation]:
    """What ``after`` shows and ``before`` did not."""
    then = _all_text(before) if before is not None else ""
    now = _all_text(after)
    found = DEBUGGING.search(now)
    if found is not None and found[0] not in then:
        text = f"the page shows visitors what is for developers: {found[0][:60]}"
        yield Observation("debug-shown", "debugging", Weight.DAMAGE, text, path, "", now[found.start() :][:120])
    for secret in secrets:
        if len(secret) >= SHORTEST_SECRET and secret in now and secret not in then:
            yield Observation("secret-shown", "secret", Weight.DAMAGE, "the page shows a secret of the site", path)
            return


def _all_text(markup: Markup) -> str:
    defaults = (v for form in markup.forms.values() for v in form.fields.values())
    return "\n".join([markup.title, markup.description, *(b.text for b in markup.blocks.values()), *defaults])

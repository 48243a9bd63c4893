"""What visits alone change in a site's database: the smaller tables before and after, and what that teaches."""

from __future__ import annotations

import re

from keenharbor.site.inference.contents import kind_of
from keenharbor.site.inference.inferred import name_and_value
from keenharbor.site.passing import Kept, Learnt, kept_rows, learn_passing
from keenharbor.site.view import SiteView

_ENOUGH_ROWS = 50
_KEY, _VALUE = re.compile(r"(?i)(^|_)(key|setting|variable)$"), re.compile(r"(?i)(^|_)value$")
"""What is said of a user or a post beyond its own columns stands in such rows: a whole column of values must not pass
for volatile since one of them is (rights stand there as well as sessions)."""


def rows_now(site: SiteView) -> Kept:
    """The rows of the smaller tables, but for those that are known to change."""
    with site.reading_database() as state:
        return kept_rows(state, site.model.volatile.tables)


def learnt_between(before: Kept, after: Kept) -> Learnt:
    """What differs: of tables of settings, and of those that say something more of others' rows by a key, the rows by
    their names; of others the columns."""
    names = {}
    for name, (table, rows) in after.items():
        named = name_and_value(table.columns)
        if named is None:
            continue
        kept_by_key = bool(_KEY.search(named[0]) and _VALUE.search(named[1]))
        if kept_by_key or kind_of(table, list(rows.values())[:_ENOUGH_ROWS])[0] == "settings":
            names[name] = named[0]
    return learn_passing(before, after, names)

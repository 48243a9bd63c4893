"""The feed that a site file names."""

from __future__ import annotations

import re

from keenharbor.site.components import distributions
from keenharbor.site.feed import Feed, read_feed
from keenharbor.site.indexfeed import Index, IndexFeed
from keenharbor.site.view import SiteView


def feed_of(site: SiteView) -> Feed | None:
    """The site's feed; None when the site file names none. Raises `UsageError` when it cannot be read."""
    part = site.model.feed
    if part is None:
        return None
    base = site.site_file.parent
    if part.path is not None:
        feed = read_feed(base / part.path)
        feed.cache = site.work / "feed-cache"
        return feed
    assert part.index is not None
    place = part.index if re.match(r"https?://", part.index) else str(base / part.index)
    installed = {d.name: d.version for d in distributions(site.packages()).values()}
    index = Index(place, site.work / "feed-cache")
    return IndexFeed(index, site.model.core.package, site.runtime_version(), installed, site.site_file)

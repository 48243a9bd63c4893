"""What pages are called, for people."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection

from keenharbor.compare import Look


def titles_of(look: Look, paths: Collection[str]) -> dict[str, str]:
    """What pages are called, without what all titles end with (the site's name)."""
    titles = {p: s.markup.title for p, s in look.pages.items() if s.markup is not None and s.markup.title}
    ends = Counter(t[m.start() :] for t in set(titles.values()) for m in [re.search(r"\s[|·–—:-]\s[^|·–—]+$", t)] if m)
    common, count = ends.most_common(1)[0] if ends else ("", 0)
    own = common if count >= max(2, 0.6 * len(set(titles.values()))) else ""
    return {p: titles[p].removesuffix(own)[:60] for p in sorted(paths) if titles.get(p, "").removesuffix(own)}

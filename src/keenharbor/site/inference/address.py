"""The address of a site: what its settings or its database say, and whether somebody answers there."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from urllib.parse import urlsplit

from keenharbor.site.connections import host_of_address
from keenharbor.site.inference.contents import AddressPlaces
from keenharbor.site.inference.evidence import Sureness
from keenharbor.site.inference.sources import Source
from keenharbor.site.settings import Setting, key_parts

Visit = Callable[[str], bool]
"""Whether a site answers at an address of this machine."""


def visit_nothing(address: str) -> bool:
    """Nobody is asked."""
    return False


def is_here(address: str) -> bool:
    """Whether an address is one of this machine's own: such a one may be visited without asking."""
    host = urlsplit(address).hostname or ""
    try:
        return host == "localhost" or ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


_ADDRESS_KEY = re.compile(
    r"(?i)(^|[._$-])(site_?|base_?|home_?|root_?|app_?|public_?|live_?|canonical_?|web_?|self_?|own_?|my_?|full_?|"
    r"server_?|external_?|frontend_?|blog_?|wiki_?|forum_?|shop_?|admin_?|wagtailadmin_?)*"
    r"(url|address|uri|host|domain|home|link)(_?(path|base|root|prefix|full))?$"
)
_PLACEHOLDER = re.compile(r"(?i)//(www\.)?(example\.(com|org|net)|localhost|127\.0\.0\.1|your-?(site|domain)[^/]*)$")
_SPEAKS_OF_OTHERS = re.compile(
    r"(?i)(api|cdn|docs?|support|update|feed|author|vendor|license|homepage|repository|schema|proxy|oauth|callback)"
)
_OF_THE_SITE = re.compile(r"(?i)(site|base|home|app|self|public|canonical)")


@dataclass(frozen=True)
class AddressFound:
    """The site's address: ``setting`` (and its ``source``) or ``cell`` where it stands."""

    address: str
    evidence: str
    sure: Sureness
    source: Source | None = None
    setting: str | None = None
    also: tuple[str, ...] = ()


def address_in_settings(
    sources: Sequence[Source], database: Source | None, said: str | None, visit: Visit
) -> AddressFound | None:
    """The address in files of settings that are the site's own: by their name and place, or since they tell of its
    ``database``. One that was ``said`` stands, with the setting that holds it."""
    found = sorted(_candidates(sources, database), key=lambda f: -f[0])
    if said is not None:
        host = host_of_address(said)
        fit = next((f for _, f in found if host_of_address(f.address) == host), None)
        return AddressFound(
            said.rstrip("/"), "as you said", Sureness.READ, fit.source if fit else None, fit.setting if fit else None
        )
    answering = next((f for _, f in found if is_here(f.address) and visit(f.address)), None)
    if answering is not None:
        best = replace(answering, sure=Sureness.READ, evidence=f"{answering.evidence}; it answers")
    elif found and found[0][0] >= -1.5:
        best = found[0][1]
    else:
        return None
    also = dict.fromkeys(f.evidence for _, f in found if f.address == best.address and f.setting != best.setting)
    return replace(best, also=tuple(also))


def _candidates(sources: Sequence[Source], database: Source | None) -> Iterator[tuple[float, AddressFound]]:
    for source in sources:
        if not source.is_own and source is not database:
            continue
        for setting in source.own_settings:
            value = setting.value.strip()
            found = site_address(value, setting.key)
            if len(value) <= 300 and found and host_of_address(value) is not None and _ADDRESS_KEY.search(setting.key):
                yield _weighed(source, setting, found, database)


def site_address(value: str, key: str) -> str | None:
    """The address of a site in a value: with its path only where the key speaks of the site, and the path names a
    folder."""
    found = re.match(r"(https?://[^/\s?#]+)((?:/[\w~-]+)*)/?", value.strip(), re.IGNORECASE)
    if found is None:
        return None
    of_the_site = _OF_THE_SITE.search(key) and not _SPEAKS_OF_OTHERS.search(key)
    return found[1] + found[2] if of_the_site and found.end() == len(value.strip()) else found[1]


def _weighed(source: Source, setting: Setting, bare: str, database: Source | None) -> tuple[float, AddressFound]:
    deep = setting.value.strip().rstrip("/") != bare
    score = source.score - (1.5 if deep else 0) - 0.5 * len(key_parts(setting.key))
    score += 2 if source is database else 0
    score -= 3 if _SPEAKS_OF_OTHERS.search(setting.key) else 0
    score += 1 if _OF_THE_SITE.search(setting.key) else 0
    sure, why = (Sureness.READ if score > 0 else Sureness.LIKELY), source.evidence(setting)
    if _PLACEHOLDER.search(bare):
        score, sure, why = score - 2, Sureness.GUESSED, f"{why}; it looks like a placeholder"
    return score, AddressFound(bare, why, sure, source, setting.key)


def address_in_cells(
    places: AddressPlaces, settings_tables: Sequence[str], known: AddressFound | None, visit: Visit
) -> AddressFound | None:
    """The address in a cell, where nothing else tells it (``known``), or where that in a table of settings answers and
    the known one does not."""
    ranked = sorted(
        places.exact.items(),
        key=lambda p: (
            -bool(re.search(r"(?i)(site|home|base|url|address|domain|host)", p[0])),
            -places.hosts.get(host_of_address(p[1]) or "", 0),
        ),
    )
    if known is not None:
        if known.evidence.endswith("; it answers"):
            return known
        for place, address in ranked:
            table = place.partition(".")[0]
            named = re.search(r"(?i)(site|home|base|url|address)", place.partition("(")[2] or place)
            if table in settings_tables and named and is_here(address) and visit(address):
                return AddressFound(address, f"cell {place}; it answers", Sureness.READ)
        return known
    for place, address in ranked[:1]:
        sure = Sureness.LIKELY if re.search(r"(?i)(site|home|base|url)", place) else Sureness.GUESSED
        if is_here(address) and visit(address):
            return AddressFound(address, f"cell {place}; it answers", Sureness.READ)
        return AddressFound(address, f"cell {place}", sure)
    return None

"""What a page says, read from its markup."""

from __future__ import annotations

import functools
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from urllib.parse import quote, urljoin, urlsplit

from selectolax.lexbor import LexborHTMLParser, LexborNode

_BLOCK_TAGS = {"main", "nav", "header", "footer", "aside", "section", "article", "form"}
_SILENT = {"script", "style", "template", "noscript"}
_FIELDS = {"input", "select", "textarea"}
_HEADINGS = {"h1", "h2", "h3", "h4", "h5", "h6"}


@dataclass
class Block:
    """A part of a page: its own text, links, and images, without those of the blocks within it."""

    words: list[str] = field(default_factory=list)
    links: list[str] = field(default_factory=list)
    images: list[str] = field(default_factory=list)
    headings: list[str] = field(default_factory=list)

    @property
    def text(self) -> str:
        return " ".join(" ".join(self.words).split())


@dataclass
class Form:
    """A form: where it goes, how, and its fields by name with their values; ``secrets`` are those for passwords,
    ``hidden`` those that nobody sees; ``buttons`` send their value when they are pressed, boxes that are ``unticked``
    nothing. ``kinds`` are the fields' types where they have one; ``traps`` fields that no person sees and robots fill
    in: whoever does is turned away."""

    action: str
    method: str
    fields: dict[str, str]
    secrets: set[str] = field(default_factory=set)
    buttons: dict[str, str] = field(default_factory=dict)
    unticked: set[str] = field(default_factory=set)
    hidden: set[str] = field(default_factory=set)
    kinds: dict[str, str] = field(default_factory=dict)
    traps: set[str] = field(default_factory=set)

    @property
    def names(self) -> set[str]:
        """All that a person can fill in, tick or press."""
        return {*self.fields, *self.unticked, *self.buttons}


@dataclass
class Markup:
    """A page's title, description, canonical address, what it says to robots, blocks by place, forms by id, the files
    it asks for, and its structured data (what it says to machines: JSON-LD, one text an item, and properties by name).

    Addresses within the site are paths; the site's own address in texts, titles and links to elsewhere (which may carry
    it encoded, to share a page) is written ``{site}``, its host with a port ``{host}``.
    """

    title: str = ""
    description: str = ""
    canonical: str = ""
    robots: str = ""
    structured: dict[str, str] = field(default_factory=dict)
    blocks: dict[str, Block] = field(default_factory=dict)
    forms: dict[str, Form] = field(default_factory=dict)
    assets: list[str] = field(default_factory=list)

    def links(self) -> list[str]:
        return [link for block in self.blocks.values() for link in block.links]

    def styles(self) -> frozenset[str]:
        """The style sheets that it asks for, without what is asked behind them, which often is a version."""
        return frozenset(bare for a in self.assets if (bare := a.partition("?")[0]).endswith(".css"))

    def images(self) -> list[str]:
        return [image for block in self.blocks.values() for image in block.images]


_LARGEST_MARKUP = 4 * 1024 * 1024
_DEEPEST = 400
_TAG = re.compile(r"<(/?)([a-zA-Z][\w-]*)")
_VOID = frozenset(
    ["area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "param", "source", "track", "wbr"]
)


def bounded(html: str) -> str:
    """What of a page is read: so much, and not nested deeper than any page is. The rest would take a parser minutes and
    gigabytes, and says nothing."""
    html = html[:_LARGEST_MARKUP]
    if html.count("<") <= _DEEPEST:
        return html
    depth = 0
    for found in _TAG.finditer(html):
        if found[2].lower() in _VOID:
            continue
        depth = max(0, depth - 1) if found[1] else depth + 1
        if depth > _DEEPEST:
            return html[: found.start()]
    return html


def read_markup(html: str, address: str, path: str) -> Markup:
    """What the page at ``path`` of the site at ``address`` says."""
    tree = LexborHTMLParser(bounded(html))
    page = Markup()
    head = tree.head
    if head is not None:
        title = head.css_first("title")
        page.title = without_own(" ".join(title.text().split()), address) if title is not None else ""
        for meta in head.css("meta[content]"):
            name, content = (meta.attributes.get("name") or "").lower(), meta.attributes.get("content") or ""
            if name == "description":
                page.description = without_own(content, address)
            elif name == "robots":
                page.robots = content
            elif meta.attributes.get("property"):
                page.structured[str(meta.attributes["property"])] = without_own(content, address)
        for link in head.css("link[href]"):
            place = _place(link.attributes.get("href"), address, path)
            if link.attributes.get("rel") == "canonical":
                page.canonical = place
            elif link.attributes.get("rel") == "stylesheet" and place.startswith("/"):
                page.assets.append(place)
        for script in tree.css("script[src]"):
            place = _place(script.attributes.get("src"), address, path)
            if place.startswith("/"):
                page.assets.append(place)
    for script in tree.css('script[type="application/ld+json"]'):
        _read_linked_data(script.text(), page, address)
    if tree.body is not None:
        _walk(tree.body, page, page.blocks.setdefault("page", Block()), "", address, path, None)
    for block in page.blocks.values():
        block.words = [without_own(word, address) for word in block.words]
    page.blocks = {name: b for name, b in page.blocks.items() if name != "page" or b.words or b.links or b.images}
    return page


def without_own(text: str, address: str) -> str:
    """A text in which the site's own address is ``{site}`` in every form in which pages carry it, and its host with a
    port ``{host}``: two clones of one site differ in nothing else."""
    host, pattern = _own(address)
    if host not in text:
        return text
    return pattern.sub(lambda m: "{site}" if m[0].lower().startswith("http") else "{host}", text)


@functools.lru_cache(maxsize=64)
def _own(address: str) -> tuple[str, re.Pattern[str]]:
    parts = urlsplit(address)
    forms = {f for safe in ("", "/", ":", "/:") for f in (quote(address, safe=safe), quote(address, safe=safe).lower())}
    forms |= {address, address.replace("/", "\\/")}
    if parts.port is not None:
        forms |= {parts.netloc, quote(parts.netloc, safe=""), quote(parts.netloc, safe="").lower()}
    written = "|".join(re.escape(f) for f in sorted(forms, key=len, reverse=True))
    return parts.hostname or address, re.compile(f"(?:{written})(?![0-9A-Za-z])")


def _read_linked_data(text: str, page: Markup, address: str) -> None:
    """JSON-LD, one entry a kind of thing (https://www.w3.org/TR/json-ld11/)."""
    try:
        found = json.loads(without_own(text, address))
    except (ValueError, RecursionError):
        page.structured["(cannot be read)"] = " ".join(text.split())[:200]
        return
    items = found if isinstance(found, list) else found.get("@graph", [found]) if isinstance(found, dict) else []
    for number, item in enumerate(items):
        kind = item.get("@type", "") if isinstance(item, dict) else ""
        page.structured[f"{kind or 'thing'} {number + 1}"] = json.dumps(item, sort_keys=True, ensure_ascii=False)


_MADE_UP = re.compile(r"[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-|(?=[0-9a-f]*\d)(?=[0-9a-f]*[a-f])[0-9a-f]{10,}|\d{7,}")
"""Identifiers that a program has drawn or counted up: UUIDs, long hexadecimal numbers, times."""


def _is_button(tag: str, attributes: Mapping[str, str | None]) -> bool:
    kind = (attributes.get("type") or "").lower()
    return tag == "button" or (tag == "input" and kind in ("submit", "image", "button", "reset"))


def _is_unticked(attributes: Mapping[str, str | None]) -> bool:
    return (attributes.get("type") or "").lower() in ("checkbox", "radio") and "checked" not in attributes


def _field_value(field: LexborNode, tag: str) -> str:
    """What a browser would send for a field that nobody touches."""
    if tag == "textarea":
        return field.text()
    if tag == "select":
        chosen = field.css_first("option[selected]") or field.css_first("option")
        return (chosen.attributes.get("value") or chosen.text()) if chosen is not None else ""
    return field.attributes.get("value") or ""


def _place(raw: str | None, address: str, path: str) -> str:
    """Where a reference leads: a path with query within the site, else the whole address; no fragment."""
    place = (raw or "").strip()
    if place[:1] == "/" and place[1:2] != "/" and "/." not in place and "\\" not in place:
        return place.partition("#")[0]  # most are like this: nothing is to be resolved
    return _resolved(place, address, path)


@functools.lru_cache(maxsize=4096)
def _resolved(raw: str, address: str, path: str) -> str:
    try:
        whole = urljoin(address + path, raw)
        parts = urlsplit(whole)
    except ValueError:
        return raw
    if f"{parts.scheme}://{parts.netloc}" == address:
        return (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    return without_own(whole.split("#", 1)[0], address)


_UNSEEN_STYLE = re.compile(r"(?i)display\s*:\s*none|visibility\s*:\s*hidden|opacity\s*:\s*0\b|(left|top)\s*:\s*-\d{3,}")
_TRAP_NAME = re.compile(
    r"(?i)honey|(^|[-_])(hp|trap|nospam|leave|robot|bot[-_]?check)([-_]|$)|leave[-_ ]?(this|it)?[-_ ]?(empty|blank)"
)


def _is_trap(node: LexborNode, attributes: Mapping[str, str | None]) -> bool:
    """Whether a field is one that no person sees: by its name, or by what it or what holds it within the form says."""
    if _TRAP_NAME.search(str(attributes.get("name") or "")):
        return True
    if attributes.get("tabindex") == "-1" and attributes.get("autocomplete") in ("off", "nope", "new-password"):
        return True
    at: LexborNode | None = node
    while at is not None and at.tag not in ("form", "body"):
        said = at.attributes
        words = f"{said.get('class') or ''} {said.get('id') or ''}"
        unseen = "hidden" in said or said.get("aria-hidden") == "true" or _UNSEEN_STYLE.search(said.get("style") or "")
        if unseen or _TRAP_NAME.search(words):
            return True
        at = at.parent
    return False


def _walk(
    node: LexborNode, page: Markup, block: Block, name: str, address: str, path: str, form: Form | None
) -> None:  # fmt: skip
    counts: dict[str, int] = {}
    for child in node.iter(include_text=True):
        tag = child.tag or ""
        if tag == "-text":
            text = child.text(deep=False) if child.text_content is None else child.text_content
            if text and text.strip():
                block.words.append(text.strip())
            continue
        if tag in _SILENT or tag.startswith("-"):
            continue
        attributes: Mapping[str, str | None] = child.attributes
        if tag == "a" and attributes.get("href"):
            block.links.append(_place(attributes["href"], address, path))
        elif tag in _HEADINGS:
            block.headings.append(tag)
        elif tag == "img":
            block.images.append(_place(attributes.get("src"), address, path))
        elif form is not None and attributes.get("name") and _is_button(tag, attributes):
            form.buttons[str(attributes["name"])] = attributes.get("value") or ""
        elif form is not None and attributes.get("name") and tag in _FIELDS and _is_unticked(attributes):
            form.unticked.add(str(attributes["name"]))
        elif tag in _FIELDS and form is not None and attributes.get("name"):
            form.fields[str(attributes["name"])] = _field_value(child, tag)
            kind = (attributes.get("type") or "").lower()
            form.kinds[str(attributes["name"])] = kind or tag
            if kind != "hidden" and _is_trap(child, attributes):
                form.traps.add(str(attributes["name"]))
            if kind in ("password", "hidden"):
                (form.secrets if kind == "password" else form.hidden).add(str(attributes["name"]))
        inner, inner_name, inner_form = block, name, form
        identity = attributes.get("id")
        if identity and _MADE_UP.search(identity):
            identity = None  # another one at every visit: it names nothing
        if identity or tag in _BLOCK_TAGS:
            counts[tag] = counts.get(tag, 0) + 1
            inner_name = f"#{identity}" if identity else f"{name} {tag}[{counts[tag]}]".strip()
            inner = page.blocks.setdefault(inner_name, Block())
        if tag == "form":
            inner_form = Form(
                _place(attributes.get("action") or path, address, path), (attributes.get("method") or "get").lower(), {}
            )
            page.forms[inner_name.lstrip("#")] = inner_form
        _walk(child, page, inner, inner_name, address, path, inner_form)

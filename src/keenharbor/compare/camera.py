"""Pictures of pages, by a real browser (Chromium through Playwright, the extra ``browser``): whole pages, at two
widths, with what the browser complains of. Nothing but the site itself is asked for."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import os
import re
import shutil
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from types import TracebackType
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from keenharbor.base.errors import UsageError

if TYPE_CHECKING:
    from playwright.async_api import Browser, BrowserContext, CDPSession, Page, Playwright, Route

WIDTHS = (1280, 390)
"""Pixels: a desk, and a telephone."""
HIGHEST = 12_000
"""Pixels: longer pages are cut, since a browser's memory is not endless."""
_SECONDS = 20
_PROGRAMS = ("chromium", "chromium-browser")
AT_ONCE = max(2, os.cpu_count() or 2)
# Where blocks are (see `keenharbor.compare.markup`), those that have a name of their own; and how high the page is.
_BOXES = """() => document.fonts.ready.then(() => [Object.fromEntries([...document.querySelectorAll('[id]')].map(e => {
  const r = e.getBoundingClientRect();
  return ['#' + e.id, [r.left + scrollX, r.top + scrollY, r.width, r.height]];
})), document.documentElement.scrollHeight])"""
# What moves by itself stands still.
_STILL = """document.addEventListener('DOMContentLoaded', () => {
  const style = document.createElement('style');
  style.textContent = '*, *::before, *::after { animation: none !important; transition: none !important; ' +
    'caret-color: transparent !important; scroll-behavior: auto !important }';
  document.head.append(style);
})"""


@dataclass(frozen=True)
class Shot:
    """A page as a browser shows it at one width: the picture (PNG), where blocks are in it (left, top, width, height),
    errors on the console, requests that failed or led elsewhere."""

    path: str
    width: int
    png: bytes
    boxes: dict[str, tuple[float, float, float, float]] = field(default_factory=dict)
    errors: tuple[str, ...] = ()
    failed: tuple[str, ...] = ()


def missing_browser() -> str:
    """In words, what is not there for taking pictures; empty when all is."""
    try:
        import playwright.async_api  # noqa: F401
    except ImportError:
        return "the extra 'browser' is not installed (pip install 'keenharbor[browser]')"
    return "" if browser_program() else f"no browser was found ({' or '.join(_PROGRAMS)})"


def browser_program() -> str | None:
    """The browser on this machine; None where there is none."""
    return next((p for name in _PROGRAMS if (p := shutil.which(name))), None)


def browser_arguments() -> list[str]:
    """How it is started: alike on every machine, and asking nobody anything by itself."""
    arguments = ["--disable-gpu", "--hide-scrollbars", "--force-color-profile=srgb", "--disable-background-networking"]
    if os.geteuid() == 0:
        arguments.append("--no-sandbox")  # Chromium refuses to run as root with one
    return arguments


def elsewhere_than(address: str) -> re.Pattern[str]:
    """What fits every address that is not of the site."""
    return re.compile(rf"^(?!{re.escape(address)}(/|$))(https?|wss?):")


class Camera:
    """A browser without a screen. Raises `UsageError` where there is none."""

    def __init__(self) -> None:
        lacking = missing_browser()
        if lacking:
            raise UsageError(f"no pictures can be taken: {lacking}", advice="install it, or leave out --pictures")
        self._loop = asyncio.new_event_loop()
        self._playwright: Playwright | None = None
        self._browser: Browser | None = None

    def __enter__(self) -> Camera:
        self._loop.run_until_complete(self._start())
        return self

    async def _start(self) -> None:
        from playwright.async_api import async_playwright

        self._playwright = await async_playwright().start()
        self._browser = await self._playwright.chromium.launch(
            executable_path=browser_program(), args=browser_arguments()
        )

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._loop.run_until_complete(self._stop())
        self._loop.close()

    async def _stop(self) -> None:
        with contextlib.suppress(Exception):
            if self._browser is not None:
                await self._browser.close()
        if self._playwright is not None:
            await self._playwright.stop()

    def shoot(
        self,
        address: str,
        paths: Sequence[str],
        widths: Sequence[int] = WIDTHS,
        cookies: Mapping[str, str] | None = None,
    ) -> list[Shot]:
        """Pictures of pages of the site at ``address``, by width and path. A page that cannot be shown has an empty
        picture and says why. Several pages are open at once; each is asked for like a visitor's, with ``cookies`` like
        a member's."""
        return self._loop.run_until_complete(self._shoot(address, paths, widths, cookies or {}))

    async def _shoot(
        self, address: str, paths: Sequence[str], widths: Sequence[int], cookies: Mapping[str, str]
    ) -> list[Shot]:
        asked = [(path, width) for width in widths for path in paths]
        found: dict[tuple[str, int], Shot] = {}
        waiting = iter(asked)

        async def work() -> None:
            tab: _Tab | None = None
            try:
                for path, width in waiting:
                    if tab is None or tab.width != width:
                        if tab is not None:
                            await tab.close()
                        tab = await self._open(address, width, cookies)
                    found[path, width] = await tab.shoot(path)
            finally:
                if tab is not None:
                    await tab.close()

        await asyncio.gather(*(work() for _ in range(AT_ONCE)))
        return [found[a] for a in asked]

    async def _open(self, address: str, width: int, cookies: Mapping[str, str]) -> _Tab:
        assert self._browser is not None
        context = await self._browser.new_context(
            viewport={"width": width, "height": 800}, reduced_motion="reduce", ignore_https_errors=True,
            service_workers="block", locale="en-GB", timezone_id="UTC",
        )  # fmt: skip
        context.set_default_timeout(_SECONDS * 1000)
        await context.add_init_script(_STILL)
        if cookies:
            await context.add_cookies([{"name": n, "value": v, "url": address} for n, v in cookies.items()])
        page = await context.new_page()
        tab = _Tab(address, width, context, page, await context.new_cdp_session(page))
        await tab.listen()
        return tab


@dataclass
class _Tab:
    """One open page at one width. It asks nothing but the site."""

    address: str
    width: int
    context: BrowserContext
    page: Page
    session: CDPSession
    errors: list[str] = field(default_factory=list)
    failed: list[str] = field(default_factory=list)

    async def listen(self) -> None:
        """Note what the browser complains of, and let nothing out."""

        async def refuse(route: Route) -> None:
            self.failed.append(f"{urlsplit(route.request.url).netloc} is asked for")
            await route.abort()

        await self.context.route(elsewhere_than(self.address), refuse)
        self.page.on("console", lambda m: self.errors.append(self._short(m.text)) if m.type == "error" else None)
        self.page.on("pageerror", lambda e: self.errors.append(self._short(str(e))))
        self.page.on("response", lambda r: self._note(r.url, r.status))

    def _short(self, text: str) -> str:
        return text.replace(self.address, "").split("\n", 1)[0][:200]

    def _note(self, url: str, status: int) -> None:
        if status >= 400:
            self.failed.append(f"{self._short(url)}: status {status}")

    async def shoot(self, path: str) -> Shot:
        """The page as it is shown when it has loaded, with its fonts."""
        from playwright.async_api import Error

        self.errors.clear()
        self.failed.clear()
        png, boxes = b"", {}
        try:
            await self.page.goto(self.address + path, wait_until="load")
            boxes, height = await self.page.evaluate(_BOXES)
            clip = {"x": 0, "y": 0, "width": self.width, "height": max(1, min(int(height), HIGHEST)), "scale": 1}
            asked = {"format": "png", "captureBeyondViewport": True, "optimizeForSpeed": True, "clip": clip}
            png = base64.b64decode((await self.session.send("Page.captureScreenshot", asked))["data"])
        except Error as error:
            self.errors.append(self._short(error.message))
        # A status is told by both: the console repeats what failed to load.
        told = tuple(dict.fromkeys(e for e in self.errors if not e.startswith("Failed to load resource")))
        placed = {str(k): (float(v[0]), float(v[1]), float(v[2]), float(v[3])) for k, v in boxes.items()}
        return Shot(path, self.width, png, placed, told, tuple(dict.fromkeys(self.failed)))

    async def close(self) -> None:
        """Close the tab, with its cookies and cache."""
        await self.context.close()

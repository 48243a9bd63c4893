"""Telling people what was done: a mail that is read in ten seconds, a webhook, a heartbeat.

What became bad or good again is told at once, and once; what stays bad is told again after a week."""

from __future__ import annotations

import smtplib
import ssl
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from html import escape
from pathlib import Path

import msgspec

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.references import referred
from keenharbor.base.text import duration, plural
from keenharbor.site.routines import MailboxPart, TellPart
from keenharbor.tend.duties import DUTIES
from keenharbor.tend.tending import Did, Tended, Tending

WEEK = timedelta(days=7)
_SECONDS = 30.0


@dataclass
class News:
    """What there is to tell: duties that became bad or stay so, those that are good again, and all that was done."""

    site: str
    address: str
    at: datetime
    bad: dict[str, Did] = field(default_factory=dict)
    good_again: dict[str, Did] = field(default_factory=dict)
    done: dict[str, Did] = field(default_factory=dict)
    weekly: bool = False
    run: str = ""

    @property
    def subject(self) -> str:
        if self.bad:
            name, did = next(iter(self.bad.items()))
            more = f" (and {plural(len(self.bad) - 1, 'more duty', 'more duties')})" if len(self.bad) > 1 else ""
            return f"[{self.site}] {_mark(did)} {name}: {did.told or did.word}"[:150] + more
        if self.good_again:
            return f"[{self.site}] ✓ good again: {', '.join(self.good_again)}"
        return (
            f"[{self.site}] ✓ {'the week' if self.weekly else 'all that was due'}: "
            f"{plural(len(self.done), 'duty', 'duties')} done"
        )


def news_of(site: str, address: str, tending: Tending, tended: Tended, when: str, at: datetime) -> News | None:
    """What is to be told now by the rule ``when``; None where nothing is."""
    news = News(site, address, at, run=tending.run)
    for name, did in tended.duties.items():
        if did.put_off:
            continue
        stale = tended.told_at is not None and did.known and not did.good and at - tended.told_at >= WEEK
        if not did.good and (not did.known or stale):
            news.bad[name] = did
        elif did.good and name in tended.bad_told:
            news.good_again[name] = did
    weekly = when == "weekly" and (tended.told_at is None or at - tended.told_at >= WEEK)
    news.weekly = weekly
    news.done = dict(tended.duties) if weekly else dict(tending.done)
    if news.bad or news.good_again or weekly or (when == "always" and tending.done):
        return news
    return None


def note_told(tended: Tended, news: News, at: datetime) -> None:
    """Note that people know of this now."""
    for name, did in list(tended.duties.items()):
        if not did.put_off:
            tended.duties[name] = msgspec.structs.replace(did, known=True)
    tended.bad_told = sorted((set(tended.bad_told) | set(news.bad)) - set(news.good_again))
    tended.told_at = at


# -- the mail -------------------------------------------------------------------------------------------------


def _mark(did: Did) -> str:
    return {"done": "✓", "caution": "!", "failed": "✗"}[did.word]


_NEXT = {
    "snapshot": "keenharbor snapshot take", "unusual": "keenharbor snapshot diff --unusual",
    "send": "keenharbor place send", "verify": "keenharbor snapshot verify; "
    "keenharbor place list", "drill": "keenharbor snapshot drill newest", "thin": "keenharbor snapshot thin --preview",
    "survey": "keenharbor survey --against", "look": "keenharbor survey --pages", "ready": "keenharbor ready --latest",
    "watch": "keenharbor watch; keenharbor rollback --look",
}  # fmt: skip


def text_of(news: News) -> str:
    """The mail as plain text."""
    lines = [f"{news.site}  {news.address}", ""]
    if news.bad:
        lines += ["To be looked at", ""]
        for name, did in news.bad.items():
            since = f", since {did.since:%Y-%m-%d %H:%M}" if did.since is not None else ""
            lines += [f"  {_mark(did)} {name} ({DUTIES.get(name, '')}){since}", f"      {did.told}"]
            lines += [f"      next: {_NEXT.get(name, 'keenharbor tend --look')}", ""]
    if news.good_again:
        lines += ["Good again", "", *(f"  ✓ {name}: {did.told}" for name, did in news.good_again.items()), ""]
    rest = {n: d for n, d in news.done.items() if n not in news.bad and n not in news.good_again}
    if rest:
        lines += ["This week" if news.weekly else "Done", ""]
        for name, did in rest.items():
            lines.append(f"  {_mark(did)} {name:9} {did.at:%a %H:%M}  {duration(did.seconds):>8}  {did.told}")
        lines.append("")
    lines += ["", f"-- \nkeenharbor tend, run {news.run}; what comes next: keenharbor tend --look"]
    return "\n".join(lines)


_STYLE = (
    "body{font:15px/1.45 system-ui,sans-serif;color:#1d2327;background:#fff;margin:0;padding:24px;max-width:720px}"
    "h1{font-size:19px;margin:0 0 2px}h2{font-size:15px;margin:22px 0 6px}.dim{color:#5b6670}"
    "table{border-collapse:collapse;width:100%}td{padding:5px 10px 5px 0;vertical-align:top;border-top:1px solid "
    "#e3e7ea}"
    "code{font:13px ui-monospace,monospace;background:#f2f4f6;padding:1px 4px;border-radius:3px}"
    ".failed{color:#b3261e;font-weight:600}.caution{color:#8a5a00;font-weight:600}.done{color:#1b6e3c;font-weight:600}"
    "@media(prefers-color-scheme:dark){body{background:#14181c;color:#e4e8eb}.dim{color:#9aa6b0}td{border-color:#2c343b}"
    "code{background:#232a30}.failed{color:#ff8a80}.caution{color:#f0c060}.done{color:#7fd09a}}"
)


def html_of(news: News) -> str:
    """The mail as a page."""
    parts = [
        f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{escape(news.subject)}</title>'
        f"<style>{_STYLE}</style></head><body><h1>{escape(news.site)}</h1>"
        f'<div class="dim">{escape(news.address)} · {news.at:%Y-%m-%d %H:%M}</div>'
    ]

    def rows(title: str, duties: dict[str, Did], *, whole: bool) -> None:
        if not duties:
            return
        parts.append(f"<h2>{title}</h2><table>")
        for name, did in duties.items():
            told = escape(did.told)
            if whole:
                since = f" · since {did.since:%Y-%m-%d %H:%M}" if did.since is not None else ""
                told += f'<div class="dim">{escape(DUTIES.get(name, ""))}{since}</div>'
                told += f"<div>next: <code>{escape(_NEXT.get(name, 'keenharbor tend --look'))}</code></div>"
            parts.append(
                f'<tr><td class="{did.word}">{_mark(did)}&nbsp;{escape(name)}</td><td>{told}</td>'
                f'<td class="dim" style="white-space:nowrap;text-align:right">{did.at:%a %H:%M}<br>'
                f"{duration(did.seconds)}</td></tr>"
            )
        parts.append("</table>")

    rows("To be looked at", news.bad, whole=True)
    rows("Good again", news.good_again, whole=False)
    rest = {n: d for n, d in news.done.items() if n not in news.bad and n not in news.good_again}
    rows("This week" if news.weekly else "Done", rest, whole=False)
    parts.append(
        f'<p class="dim">keenharbor tend, run {escape(news.run)}; what comes next: '
        "<code>keenharbor tend --look</code></p></body></html>"
    )
    return "".join(parts)


def mail_of(news: News, box: MailboxPart) -> EmailMessage:
    """The mail, as text and as a page."""
    mail = EmailMessage()
    mail["Subject"], mail["From"], mail["To"] = news.subject, box.sender, ", ".join(box.to)
    mail["Date"], mail["Message-ID"] = formatdate(localtime=True), make_msgid(domain="keenharbor.invalid")
    mail["Auto-Submitted"] = "auto-generated"
    mail.set_content(text_of(news))
    mail.add_alternative(html_of(news), subtype="html")
    return mail


def send_mail(mail: EmailMessage, box: MailboxPart, base: Path) -> None:
    """Hand a mail over. Raises `KeenHarborError`."""
    try:
        password = referred(box.password, base) if box.password is not None else None
        if box.tls == "from the start":
            server: smtplib.SMTP = smtplib.SMTP_SSL(
                box.host, box.port, timeout=_SECONDS, context=ssl.create_default_context()
            )
        else:
            server = smtplib.SMTP(box.host, box.port, timeout=_SECONDS)
        with server:
            if box.tls == "starttls":
                server.starttls(context=ssl.create_default_context())
            if box.user is not None:
                server.login(box.user, password or "")
            server.send_message(mail)
    except LookupError as error:
        raise KeenHarborError(f"the mail could not be sent: {error.args[0]}") from None
    except (OSError, smtplib.SMTPException) as error:
        raise KeenHarborError(f"the mail could not be sent by {box.host}:{box.port}: {error}") from None


# -- webhook and heartbeat ------------------------------------------------------------------------------------


def webhook_of(news: News) -> dict[str, object]:
    """What a webhook gets (docs/tend.md)."""

    def told(duties: dict[str, Did]) -> dict[str, object]:
        return {
            n: {"outcome": d.word, "told": d.told, "at": d.at.isoformat(timespec="seconds"),
                "since": d.since.isoformat(timespec="seconds") if d.since else None, "seconds": round(d.seconds, 1)}
            for n, d in duties.items()
        }  # fmt: skip

    return {
        "format": 1, "site": news.site, "address": news.address, "run": news.run, "subject": news.subject,
        "bad": told(news.bad), "good_again": told(news.good_again), "done": told(news.done), "weekly": news.weekly,
    }  # fmt: skip


def call(address: str, content: dict[str, object] | None) -> None:
    """Call an address; with ``content`` by POST. Raises `KeenHarborError`."""
    import httpx

    try:
        if content is None:
            answer = httpx.get(address, timeout=_SECONDS)
        else:
            answer = httpx.post(address, json=content, timeout=_SECONDS)
        answer.raise_for_status()
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise KeenHarborError(f"{httpx.URL(address).host} could not be told: {error}") from None


def tell(
    part: TellPart, site: str, address: str, tending: Tending, tended: Tended, base: Path, at: datetime,
    note: Callable[[str], None],
) -> list[str]:  # fmt: skip
    """Tell who is to be told. What could not be is returned in words, and is told the next time."""
    problems: list[str] = []
    news = news_of(site, address, tending, tended, part.when, at)
    ways: list[Callable[[], None]] = []
    if news is not None and part.mail is not None:
        box = part.mail
        ways.append(lambda: send_mail(mail_of(news, box), box, base))
    if news is not None and part.webhook is not None:
        hook = part.webhook
        ways.append(lambda: call(hook, webhook_of(news)))
    if part.heartbeat is not None and tending.good and all(d.code <= 1 for d in tended.duties.values()):
        heart = part.heartbeat
        ways.append(lambda: call(heart, None))
    for way in ways:
        try:
            way()
        except KeenHarborError as error:
            problems.append(error.what)
            note(error.what)
    if news is not None and not problems:
        note_told(tended, news, at)
    return problems

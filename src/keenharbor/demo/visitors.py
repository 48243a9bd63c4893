"""The visitors of the story: they borrow seeds, by hand of a small browser that knows nothing but HTTP."""

from __future__ import annotations

import datetime
import re

import httpx

from keenharbor.base.errors import KeenHarborError
from keenharbor.database import DatabasePlace, open_database

SEEDS = ("stone-path-thyme", "long-tom-carrot", "crinkle-king-kale", "tall-blue-borage", "lantern-hill-squash")


def borrow(address: str, name: str, seed: str, email: str | None = None) -> str:
    """Borrow a seed at the loan desk; returns the answer's heading."""
    with httpx.Client(base_url=address, trust_env=False, timeout=20, follow_redirects=True) as browser:
        token = re.search(r'name="token" value="(\w+)"', browser.get("/loans").text)
        if token is None:
            raise KeenHarborError("the loan desk shows no form", where=address)
        mail = email or f"{name.lower().replace(' ', '.')}@post.example"
        answer = browser.post("/loans", data={"token": token[1], "seed": seed, "name": name, "email": mail})
        heading = re.search(r"<h1>(.*?)</h1>", answer.text)
        return heading[1] if heading else f"status {answer.status_code}"


def loans_of(database: DatabasePlace, names: tuple[str, ...]) -> list[str]:
    """Which of ``names`` have a loan, read from the site's own database."""
    with open_database(database).reading() as state:
        table = state.schema.table("loans")
        at = table.columns.index("name") if table is not None else 0
        there = {row[at] for row in state.rows("loans")}
    return [n for n in names if n in there]


def night_of_harm(database: DatabasePlace, email: str, first: datetime.date) -> datetime.date:
    """The first night from a day on at which somebody's packets look overdue to who compares days as texts, day first,
    and are not: on which days that is depends on the month."""
    with open_database(database).reading() as state:
        table = state.schema.table("loans")
        assert table is not None
        at, due, back = (table.columns.index(c) for c in ("email", "due_on", "returned_on"))
        open_till = [
            datetime.date.fromisoformat(str(r[due])) for r in state.rows("loans") if r[at] == email and not r[back]
        ]
    for days in range(31):
        night = first + datetime.timedelta(days=days)
        if any(f"{day:%d.%m.%Y}" < f"{night:%d.%m.%Y}" for day in open_till):
            return night
    raise KeenHarborError(f"no loan of {email} ever looks overdue")

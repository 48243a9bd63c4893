"""The visitors of the story: they borrow seeds, by hand of a small browser that knows nothing but HTTP."""

from __future__ import annotations

import re
import sqlite3
from contextlib import closing
from pathlib import Path

import httpx

from keenharbor.base.errors import KeenHarborError

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


def loans_of(database: Path, names: tuple[str, ...]) -> list[str]:
    """Which of ``names`` have a loan, read from the site's own database."""
    with closing(sqlite3.connect(f"{database.as_uri()}?mode=ro", uri=True)) as connection:
        rows = connection.execute("SELECT name FROM loans").fetchall()
    there = {row[0] for row in rows}
    return [n for n in names if n in there]

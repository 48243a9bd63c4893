"""Lends seeds at /loans."""

import datetime
from pathlib import Path

import loam
from core import members
from core.upkeep import done_version

LOAN_DAYS = 240
HERE = Path(__file__).parent
BATCH = 250


def _channels(work, site):
    """Each loan learns through which channel it came. Big tables are done in batches, one a run."""
    if not work.has_column("loans", "channel"):
        work.run("ALTER TABLE loans ADD COLUMN channel TEXT")
    work.run(
        "UPDATE loans SET channel = 'desk' WHERE id IN (SELECT id FROM (SELECT id FROM loans WHERE channel IS NULL "
        "LIMIT ?) b)",
        BATCH,
    )
    left = work.one("SELECT COUNT(*) AS n FROM loans WHERE channel IS NULL")["n"]
    return f"batch of {BATCH} loans done, {left} left: run it again" if left else None


def register(site):
    site.migrations["loan-desk"] = {30: _channels}

    def desk(request):
        with site.engine.work() as work:
            behind = done_version(work, "loan-desk") < 30
        if behind:
            answer = site.page(request, "Loan desk", "<h1>The loan desk is closed while its books are updated</h1>")
            answer.status = 503
            return answer
        if request.method == "POST":
            return borrow(request)
        with site.engine.work() as work:
            seeds = work.all("SELECT slug, name FROM varieties WHERE packets > 0 ORDER BY name")
            recent = work.all("SELECT v.name FROM loans l JOIN varieties v ON v.id = l.variety_id "
                              "ORDER BY l.id DESC LIMIT 5")  # fmt: skip
        page = (HERE / "desk.html").read_text()
        for place, value in (
            ("token", members.form_token(site)),
            ("options", "".join(f'<option value="{s["slug"]}">{loam.escape(s["name"])}</option>' for s in seeds)),
            ("recent", "".join(f"<li>{loam.escape(r['name'])}</li>" for r in recent)),
        ):
            page = page.replace("{{" + place + "}}", value)
        return site.page(request, "Loan desk", page)

    def borrow(request):
        if not members.token_fits(site, request):
            answer = site.page(request, "Loan desk", "<h1>Please send the form again</h1>")
            answer.status = 400
            return answer
        name, email = request.form.get("name", "").strip(), request.form.get("email", "").strip()
        with site.engine.work() as work:
            seed = work.one("SELECT * FROM varieties WHERE slug = ?", request.form.get("seed", ""))
            member = work.one("SELECT suspended FROM members WHERE email = ?", email)
            if not seed or not name or "@" not in email:
                return site.page(request, "Loan desk", "<h1>A seed, a name and an e-mail address, please</h1>")
            if member and member["suspended"]:
                return site.page(request, "Loan desk", "<h1>Your card is suspended until overdue packets are back</h1>")
            taken = loam.today()
            due = taken + datetime.timedelta(days=LOAN_DAYS)
            work.run("INSERT INTO loans (variety_id, name, email, taken_on, due_on, channel) VALUES (?, ?, ?, ?, ?, "
                "'web')",
                     seed["id"], name, email, taken.isoformat(), due.isoformat())  # fmt: skip
        for follow_up in site.after_loan:
            follow_up(name, email, seed)
        return site.page(request, "Loan desk", f"<h1>Lent: {loam.escape(seed['name'])}</h1><p>Grow well!</p>")

    site.routes["/loans"] = desk

"""Lends seeds at /loans."""

import datetime
from pathlib import Path

import loam
from core import members

LOAN_DAYS = 240
HERE = Path(__file__).parent


def register(site):
    def desk(request):
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
            work.run("INSERT INTO loans (variety_id, name, email, taken_on, due_on) VALUES (?, ?, ?, ?, ?)",
                     seed["id"], name, email, taken.isoformat(), due.isoformat())  # fmt: skip
        for follow_up in site.after_loan:
            follow_up(name, email, seed)
        return site.page(request, "Loan desk", f"<h1>Lent: {loam.escape(seed['name'])}</h1><p>Grow well!</p>")

    site.routes["/loans"] = desk

"""Seeds, search pages, members and the admin's page: what every Tansy site has."""

import hashlib
import hmac
import secrets
import time

import loam
from core import rules

SESSION_SECONDS = 7 * 86400


def password_mark(password, salt):
    return hashlib.pbkdf2_hmac("sha256", password.encode(), salt.encode(), 2000).hex()


def who(site, request):
    """The member whose session the request carries."""
    token = request.cookies.get("session")
    if not token:
        return None
    with site.engine.work() as work:
        return work.one(
            "SELECT m.id, m.name, m.card, m.email, m.role FROM sessions s JOIN members m ON m.id = s.member_id "
            "WHERE s.token = ? AND s.expires > ?", token, int(time.time()),
        )  # fmt: skip


def form_token(site):
    return hmac.new(site.settings["site.secret"].encode(), str(int(time.time()) // 3600).encode(), "sha256").hexdigest()


def token_fits(site, request):
    return hmac.compare_digest(request.form.get("token", ""), form_token(site))


def register(site):
    def home(request):
        with site.engine.work() as work:
            pick = work.one("SELECT slug, name FROM varieties ORDER BY RANDOM() LIMIT 1")
            news = work.all("SELECT slug, name FROM varieties ORDER BY id DESC LIMIT 4")
            intro = work.one("SELECT body FROM pages WHERE slug = 'home'")
        body = site.fill(
            "home", intro=intro["body"], pick_name=loam.escape(pick["name"]), pick_link=f"/varieties/{pick['slug']}",
            news="".join(f'<li><a href="/varieties/{v["slug"]}">{loam.escape(v["name"])}</a></li>' for v in news),
        )  # fmt: skip
        return site.page(request, site.settings["site.name"], body, kind="home")

    def varieties(request):
        with site.engine.work() as work:
            found = work.all("SELECT * FROM varieties ORDER BY name")
        cards = "".join(
            f'<li><a href="/varieties/{v["slug"]}"><img src="/media/seeds/{v["picture"]}" '
            f'alt="{loam.escape(v["name"])}" '
            f'width="160" height="120">{loam.escape(v["name"])}</a> <em>{loam.escape(v["latin"])}</em></li>'
            for v in found
        )
        return site.page(request, "Seeds to borrow", f'<h1>Seeds to borrow</h1><ul id="seed-list">{cards}</ul>')

    def variety(request, slug):
        from core.app import NotFound

        with site.engine.work() as work:
            found = work.one("SELECT * FROM varieties WHERE slug = ?", slug)
        if found is None:
            raise NotFound(slug)
        body = site.fill(
            "variety", name=loam.escape(found["name"]), latin=loam.escape(found["latin"]), slug=slug,
            grower=loam.escape(found["grower"]), text=loam.escape(found["body"]), picture=found["picture"],
            kind=loam.escape(found["kind"]), **rules.stock_places(found),
        )  # fmt: skip
        return site.page(request, found["name"], body, kind=found["kind"], subject=found, description=found["latin"])

    def about(request):
        with site.engine.work() as work:
            found = work.one("SELECT title, body FROM pages WHERE slug = 'about'")
        return site.page(request, found["title"], f"<h1>{loam.escape(found['title'])}</h1>{found['body']}")

    def log_in(request):
        if request.method == "POST":
            from core.app import redirect

            with site.engine.work() as work:
                member = work.one("SELECT * FROM members WHERE card = ?", request.form.get("card", ""))
                salt, _, mark = (member or {"password": "$"})["password"].partition("$")
                given = password_mark(request.form.get("password", ""), salt)
                if member and hmac.compare_digest(mark, given) and token_fits(site, request):
                    token = secrets.token_hex(16)
                    expires = int(time.time()) + SESSION_SECONDS
                    work.run("INSERT INTO sessions VALUES (?, ?, ?)", token, member["id"], expires)
                    return redirect("/account", [("Set-Cookie", f"session={token}; Path=/; HttpOnly")])
            note = '<p class="error">That card and password do not fit.</p>'
        else:
            note = ""
        return site.page(request, "Log in", site.fill("login", token=form_token(site), note=note))

    def account(request):
        from core.app import redirect

        if not request.member:
            return redirect("/login")
        with site.engine.work() as work:
            loans = work.all(
                "SELECT v.name, l.taken_on, l.due_on FROM loans l JOIN varieties v ON v.id = l.variety_id "
                "WHERE l.email = ? ORDER BY l.id DESC LIMIT 20", request.member["email"],
            )  # fmt: skip
        rows = "".join(f"<li>{loam.escape(x['name'])}, back by {x['due_on']}</li>" for x in loans)
        body = f"<h1>Welcome, {loam.escape(request.member['name'])}</h1><ul id='my-loans'>{rows}</ul>"
        if request.member["role"] == "admin":
            body += '<p><a href="/admin">Edit the site</a></p>'
        return site.page(request, "Your account", body)

    def admin(request):
        from core.app import redirect

        if not request.member or request.member["role"] != "admin":
            return redirect("/login")
        saved = ""
        if request.method == "POST" and token_fits(site, request):
            if "about" in request.form:
                with site.engine.work() as work:
                    work.run("UPDATE pages SET body = ? WHERE slug = 'about'", request.form["about"])
                site.cache.drop("/about")
            if request.form.get("per_page", "").isdigit():
                options = site.option("seed-search", {})
                site.set_option("seed-search", {**options, "per_page": int(request.form["per_page"])})
            saved = '<p id="saved">Saved.</p>'
        with site.engine.work() as work:
            text = work.one("SELECT body FROM pages WHERE slug = 'about'")["body"]
        options = site.option("seed-search", {})
        return site.page(request, "Edit the site", site.fill(
            "admin", token=form_token(site), about=loam.escape(text), per_page=options.get("per_page", ""), saved=saved,
        ))  # fmt: skip

    site.routes |= {
        "/": home,
        "/varieties": varieties,
        "/varieties/([a-z0-9-]+)": variety,
        "/about": about,
        "/login": log_in,
        "/account": account,
        "/admin": admin,
    }

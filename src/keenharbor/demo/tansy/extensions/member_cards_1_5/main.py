"""The members who lend their name, at /members."""

import loam


def fold(name):
    return name.strip().casefold()


def register(site):
    def cards(request):
        with site.engine.work() as work:
            rows = work.all("SELECT name, card FROM members WHERE listed = 1")
        rows.sort(key=lambda r: fold(r["name"]))
        items = "".join(f"<li>{loam.escape(r['name'])} ({r['card']})</li>" for r in rows)
        return site.page(request, "Members", f'<h1>Members</h1><ul id="cards">{items}</ul>')

    site.routes["/members"] = cards

"""Search at /search."""

import json

import loam

DEFAULTS = {"per_page": 5, "notes_too": False}


def _set_up(work, site):
    # 2.0 writes its options anew, so that none of them is missing.
    work.run("DELETE FROM settings WHERE name = 'seed-search'")
    work.run("INSERT INTO settings (name, value) VALUES ('seed-search', ?)", json.dumps(DEFAULTS))


def register(site):
    site.migrations["seed-search"] = {20: _set_up}

    def search(request):
        words = request.query.get("q", "").strip()
        options = {**DEFAULTS, **site.option("seed-search", {})}
        form = (
            f'<form id="search" action="/search"><input name="q" '
            f'value="{loam.escape(words)}"><button>Find</button></form>'
        )
        hits = ""
        if words:
            with site.engine.work() as work:
                like = f"%{words}%"
                rows = work.all("SELECT slug, name FROM varieties WHERE name LIKE ? OR latin LIKE ? OR body LIKE ? "
                                "ORDER BY name LIMIT ?", like, like, like, options["per_page"])  # fmt: skip
            hits = "".join(f'<li><a href="/varieties/{r["slug"]}">{loam.escape(r["name"])}</a></li>' for r in rows)
        return site.page(request, "Search", f'<h1>Search</h1>{form}<section id="hits"><ol>{hits}</ol></section>')

    site.routes["/search"] = search

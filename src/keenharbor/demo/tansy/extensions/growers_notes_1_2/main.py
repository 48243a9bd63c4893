"""What growers wrote about a seed: a block beside it, and all of them at /notes."""

import loam


def register(site):
    def block(variety):
        if not variety:
            return "<h2>Growers' notes</h2><p><a href='/notes'>Read them all</a></p>"
        with site.engine.work() as work:
            rows = work.all("SELECT author, body FROM notes WHERE variety_id = ? ORDER BY id", variety["id"])
        notes = "".join(
            f"<blockquote>{loam.escape(r['body'])} <cite>{loam.escape(r['author'])}</cite></blockquote>" for r in rows
        )
        return f"<h2>Growers' notes</h2>{notes}"

    def all_notes(request):
        with site.engine.work() as work:
            rows = work.all("SELECT n.author, n.body, v.name, v.slug FROM notes n JOIN varieties v ON v.id = "
                "n.variety_id "
                            "ORDER BY v.name, n.id")  # fmt: skip
        items = "".join(
            f'<li><a href="/varieties/{r["slug"]}">{loam.escape(r["name"])}</a>: {loam.escape(r["body"])} '
            f"<cite>{loam.escape(r['author'])}</cite></li>" for r in rows
        )  # fmt: skip
        return site.page(request, "Growers' notes", f'<h1>Growers\' notes</h1><ul id="all-notes">{items}</ul>')

    site.blocks["growers-notes"] = block
    site.routes["/notes"] = all_notes

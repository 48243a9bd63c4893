"""Pictures in a row at /gallery. Takes over the pictures of Gallery wall."""

import loam


def _adopt(work, site):
    work.run("CREATE TABLE IF NOT EXISTS rail_pictures (id INTEGER PRIMARY KEY, file TEXT NOT NULL, caption TEXT)")
    if work.has_table("gallery_pictures"):
        work.run("INSERT INTO rail_pictures SELECT id, file, caption FROM gallery_pictures "
                 "WHERE id NOT IN (SELECT id FROM rail_pictures)")  # fmt: skip


def register(site):
    def gallery(request):
        with site.engine.work() as work:
            rows = work.all("SELECT file, caption FROM rail_pictures ORDER BY id")
        rail = "".join(
            f'<figure><img src="/media/gallery/{r["file"]}" alt="{loam.escape(r["caption"])}">'
            f"<figcaption>{loam.escape(r['caption'])}</figcaption></figure>" for r in rows
        )  # fmt: skip
        return site.page(request, "Gallery", f'<h1>Gallery</h1><section id="wall">{rail}</section>')

    site.migrations["picture-rail"] = {10: _adopt}
    site.routes["/gallery"] = gallery

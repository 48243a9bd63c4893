"""A wall of pictures at /gallery."""


def register(site):
    def gallery(request):
        with site.engine.work() as work:
            rows = work.all("SELECT file, caption FROM gallery_pictures ORDER BY id")
        wall = "".join(site.framed_picture(f"/media/gallery/{r['file']}", r["caption"]) for r in rows)
        return site.page(request, "Gallery", f'<h1>Gallery</h1><section id="wall">{wall}</section>')

    site.routes["/gallery"] = gallery

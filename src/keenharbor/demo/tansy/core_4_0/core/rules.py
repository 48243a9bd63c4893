"""What is particular to Tansy 4.0."""

import loam

GONE = ("core/old_pictures.py", "core/old_links.py", "core/assets/old-menu.js")


def _seasons(work, site):
    if not work.has_column("varieties", "season"):
        work.run("ALTER TABLE varieties ADD COLUMN season TEXT NOT NULL DEFAULT 'any'")
    work.run("UPDATE varieties SET season = 'spring' WHERE kind IN ('bean', 'fruit')")


MIGRATIONS = {40: _seasons}


def unmet_requirements():
    if loam.VERSION < (3, 0):
        return ["Tansy 4.0 needs loam 3.0 or newer; this is loam " + ".".join(map(str, loam.VERSION))]
    return []


def start_warnings(site):
    return [f"a file of an older Tansy is still there: {path}" for path in GONE if (site.root / path).exists()]


def prepare(site):
    pass


def kind_is_listed(kind, kinds):
    # 4.0 compares kinds to the letter, as they are written in the table of varieties.
    return kind in kinds


def stock_places(variety):
    return {"stock": variety["packets"]}


def head_extra(site):
    return ""

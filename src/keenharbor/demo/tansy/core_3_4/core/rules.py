"""What is particular to Tansy 3.4."""

from core import old_pictures

MIGRATIONS = {}


def unmet_requirements():
    return []


def start_warnings(site):
    return []


def prepare(site):
    site.framed_picture = old_pictures.framed_picture


def kind_is_listed(kind, kinds):
    return kind.lower() in [k.lower() for k in kinds]


def stock_places(variety):
    return {"packets": variety["packets"]}


def head_extra(site):
    return '<script src="/assets/old-menu.js"></script>'

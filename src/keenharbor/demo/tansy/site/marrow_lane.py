"""Fills a fresh Tansy 3.4 with the site of the Marrow Lane Seed Library, a made-up library that lends seeds.

    marrow_lane.py --root ROOT --database JSON --address URL --mail-port N

Everything is the same at each run but for the days, which count from today.
"""

import argparse
import datetime
import json
import random
import shutil
import struct
import sys
import zlib
from pathlib import Path

VARIETIES = """
Painted Lady runner bean|Phaseolus coccineus|bean|Ada Quill|Red and white flowers, long pods, likes a tall pole.
Marrow Lane Blue pea|Pisum sativum|bean|Tomas Brandt|Saved on the lane since the first summer; blue-violet pods.
Old Cellar broad bean|Vicia faba|bean|Ada Quill|Sow in October under fleece, or in March.
Speckled Cricket bean|Phaseolus vulgaris|bean|Nell Osei|A dwarf bean for pots and short summers.
Lantern Hill squash|Cucurbita maxima|fruit|Bram Teller|Keeps until April in a cool stair.
Green Comet marrow|Cucurbita pepo|fruit|Bram Teller|Bush plants, cut young.
Sugar Lamp melon|Cucumis melo|fruit|Ruth Amadi|Needs glass here, and patience.
Three Sisters maize|Zea mays|fruit|Nell Osei|Sow in a block and not in a row.
Copper Kettle tomato|Solanum lycopersicum|fruit|Ruth Amadi|Brown shoulders, few seeds, thin skin.
Saint Olave cherry tomato|Solanum lycopersicum|fruit|Ruth Amadi|Trusses of thirty until the frost.
Long Tom carrot|Daucus carota|root|Jory Pask|Wants sand; sow thin.
Winter Keeper beet|Beta vulgaris|root|Jory Pask|Lift before hard frost, store in leaves.
White Candle parsnip|Pastinaca sativa|root|Jory Pask|Use fresh seed each year.
Black Penny radish|Raphanus sativus|root|Mina Holt|A winter radish, hot and crisp.
Ferry Lane onion|Allium cepa|root|Mina Holt|Sow at New Year on a sill.
Crinkle King kale|Brassica oleracea|leaf|Tomas Brandt|Stands all winter, sweet after frost.
Red Lace lettuce|Lactuca sativa|leaf|Mina Holt|Slow to bolt; sow every third week.
Market Day spinach|Spinacia oleracea|leaf|Ada Quill|Early and late; not in the heat.
Lemon Thread basil|Ocimum basilicum|herb|Ruth Amadi|Never before the lilac is over.
Grandmother's dill|Anethum graveolens|herb|Nell Osei|Comes again by itself.
Stone Path thyme|Thymus vulgaris|herb|Bram Teller|Surface sown, slow for a year.
Tall Blue borage|Borago officinalis|herb|Tomas Brandt|For the bees, and the flowers for you.
Winter savory|Satureja montana|herb|Ada Quill|Evergreen; cut after flowering.
Aniseed chervil|Anthriscus cerefolium|herb|Mina Holt|Half shade, little and often.
""".strip().splitlines()
FIRST = ["Ada", "Tomas", "Nell", "Bram", "Ruth", "Jory", "Mina", "Oskar", "Hanne", "Ines", "Wren", "Pia", "Lewin",
    "Sorrel", "Anselm", "Dara", "Edda", "Fenn", "Gilda", "Hob"]  # fmt: skip
LAST = ["Quill", "Brandt", "Osei", "Teller", "Amadi", "Pask", "Holt", "Vey", "Lind", "Okoro"]
PLACES = ("the reading room", "the back garden", "the potting shed", "Marrow Lane 4")
EVENTS = ("Seed swap", "Sowing hour", "Grafting day", "Potato morning", "Compost talk", "Pea tasting")
CAPTIONS = (
    "The lane in May",
    "Drawer for beans",
    "Swap day",
    "The shed",
    "Labels",
    "First frost",
    "Squash weigh-in",
    "Tea",
)


def picture(width, height, hue):
    """A PNG (with a palette) of a seed on a plate, by hue: each row is plate, seed, plate; the seed darkens
    downwards."""
    base = ((hue * 53) % 150 + 60, (hue * 97) % 120 + 70, (hue * 31) % 90 + 50)
    shades = [bytes(min(255, c + 60 - 90 * y // height) for c in base) for y in range(height)]
    palette = bytes((228, 232, 216)) + b"".join(shades)
    rows = []
    for y in range(height):
        across = 1 - ((y - height / 2) / (height / 3)) ** 2
        half = int(width / 2.7 * across**0.5) if across > 0 else 0
        side = bytes(width // 2 - half)
        rows.append(b"\x00" + side + bytes([y + 1]) * (2 * half) + side)

    def piece(kind, data):
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", width, height, 8, 3, 0, 0, 0)
    data = piece(b"IHDR", head) + piece(b"PLTE", palette) + piece(b"IDAT", zlib.compress(b"".join(rows), 9))
    return b"\x89PNG\r\n\x1a\n" + data + piece(b"IEND", b"")


def slug(name):
    return "".join(c if c.isalnum() else "-" for c in name.lower().replace("'", "")).strip("-")


def settings_file(root, database, address, mail_port):
    told = "\n".join(f"{key} = {value}" for key, value in database.items())
    return f"""; The settings of this site
[site]
name = Marrow Lane Seed Library
address = {address}
theme = marrow
secret = pips-and-stones-41

[database]
{told}

[paths]
root = {root}
media = {root}/media
cache = {root}/var/cache
log = {root}/var/log

[mail]
host = 127.0.0.1
port = {mail_port}
sender = desk@marrowlane.example
"""


TABLES = """
CREATE TABLE settings (name VARCHAR(80) PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE extensions (name VARCHAR(80) PRIMARY KEY, enabled INTEGER NOT NULL);
CREATE TABLE schema_versions (owner VARCHAR(80) PRIMARY KEY, version INTEGER NOT NULL);
CREATE TABLE pages (slug VARCHAR(80) PRIMARY KEY, title TEXT NOT NULL, body TEXT NOT NULL);
CREATE TABLE varieties (id INTEGER PRIMARY KEY, slug VARCHAR(80) NOT NULL UNIQUE, name TEXT NOT NULL, latin TEXT,
 kind VARCHAR(20) NOT NULL, grower TEXT, body TEXT, picture TEXT, packets INTEGER NOT NULL);
CREATE TABLE members (id INTEGER PRIMARY KEY, name TEXT NOT NULL, card VARCHAR(20) NOT NULL UNIQUE, email VARCHAR(190),
 password TEXT NOT NULL, role VARCHAR(20) NOT NULL, listed INTEGER NOT NULL, suspended INTEGER NOT NULL DEFAULT 0);
CREATE TABLE sessions (token VARCHAR(64) PRIMARY KEY, member_id INTEGER NOT NULL, expires INTEGER NOT NULL);
CREATE TABLE loans (id INTEGER PRIMARY KEY AUTOINCREMENT, variety_id INTEGER NOT NULL REFERENCES varieties (id),
 name TEXT NOT NULL, email VARCHAR(190) NOT NULL, taken_on TEXT NOT NULL, due_on TEXT NOT NULL, returned_on TEXT);
CREATE INDEX loans_by_email ON loans (email);
CREATE TABLE notes (id INTEGER PRIMARY KEY, variety_id INTEGER NOT NULL, author TEXT NOT NULL, body TEXT NOT NULL);
CREATE TABLE events (id INTEGER PRIMARY KEY, starts TEXT NOT NULL, title TEXT NOT NULL, place TEXT NOT NULL);
CREATE TABLE gallery_pictures (id INTEGER PRIMARY KEY, file TEXT NOT NULL, caption TEXT NOT NULL);
"""


def fill(work, address, serial, password_mark):
    chance = random.Random(41)
    today = datetime.date.today()
    notes = 0
    for number, line in enumerate(VARIETIES, 1):
        name, latin, kind, grower, body = line.split("|")
        work.run("INSERT INTO varieties VALUES (?,?,?,?,?,?,?,?,?)",
            number, slug(name), name, latin, kind, grower, body, f"{slug(name)}.png",
            chance.randint(3, 40))  # fmt: skip
        for _ in range(chance.randint(1, 3)):
            words = chance.choice(
                ("Did well in clay.", "Slugs found it first.", "Kept seed for a third year.", "Sow later.")
            )
            notes += 1
            work.run("INSERT INTO notes VALUES (?,?,?,?)", notes, number, chance.choice(FIRST), words)
    for number in range(1, 61):
        name = f"{FIRST[number % 20]} {LAST[(number * 7) % 10]}"
        role, salt = ("admin" if number == 1 else "member"), f"s{number}"
        mark = f"{salt}${password_mark('cress-' + str(number), salt)}"
        work.run("INSERT INTO members VALUES (?,?,?,?,?,?,?,0)",
            number, name, f"ML-{number:03d}", f"member{number}@post.example", mark, role,
            int(number % 3 == 0))  # fmt: skip
    for _ in range(420):
        taken = today - datetime.timedelta(days=chance.randint(1, 200))
        due = taken + datetime.timedelta(days=240)
        member = chance.randint(1, 60)
        back = (
            (taken + datetime.timedelta(days=90)).isoformat() if taken < today - datetime.timedelta(days=100) else None
        )
        work.run("INSERT INTO loans (variety_id, name, email, taken_on, due_on, returned_on) VALUES (?,?,?,?,?,?)",
            chance.randint(1, 24), f"{FIRST[member % 20]} {LAST[(member * 7) % 10]}", f"member{member}@post.example",
            taken.isoformat(), due.isoformat(), back)  # fmt: skip
    for week in range(60):
        day = today + datetime.timedelta(days=7 * week - 60)
        work.run("INSERT INTO events VALUES (?,?,?,?)",
            week + 1, f"{day.isoformat()} 10:00", EVENTS[week % 6], PLACES[week % 4])  # fmt: skip
    for number, caption in enumerate(CAPTIONS, 1):
        work.run("INSERT INTO gallery_pictures VALUES (?,?,?)", number, f"wall-{number}.png", caption)
    pages = {
        "home": (
            "Home",
            f'<p>Borrow a packet, grow it, bring back seed. <a href="{address}/about">How it works</a>.</p>',
        ),
        "about": (
            "About the library",
            "<p>We lend seeds to the neighbourhood. Everybody may borrow; nobody has to be good at it.</p>",
        ),
    }
    for name, (title, body) in pages.items():
        work.run("INSERT INTO pages VALUES (?,?,?)", name, title, body)
    placement = {"growers-notes": {
        "region": "beside", "kinds": ["Herb", "bean", "fruit", "root", "leaf"],
        "link": f"{address}/notes"}}  # fmt: skip
    values = {
        "site.address": address,
        "site.profile": json.dumps({"home": address + "/", "motto": "Lend, sow, bring back"}).replace("/", "\\/"),
        "blocks.placement": serial.dump(placement),
        "seed-search": json.dumps({"per_page": 12, "notes_too": True}),
        "desk.greeting": "Grow well!",
    }
    for pair in values.items():
        work.run("INSERT INTO settings VALUES (?,?)", *pair)
    for owner, version in (("core", 34), ("loan-desk", 23), ("seed-search", 14)):
        work.run("INSERT INTO schema_versions VALUES (?,?)", owner, version)


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--root", type=Path, required=True)
    parser.add_argument("--database", type=json.loads, required=True, help="the settings of the database")
    parser.add_argument("--address", required=True)
    parser.add_argument("--mail-port", type=int, required=True)
    parser.add_argument("--loam", type=Path, required=True, help="the folder of loam's library")
    parser.add_argument("--drivers", action="append", default=[], help="a folder of database drivers")
    options = parser.parse_args()
    root, database = options.root, options.database
    sys.path[:0] = [str(root), str(options.loam)]
    sys.path += options.drivers
    sys.dont_write_bytecode = True
    from core import db, members, serial

    (root / "settings.ini").write_text(settings_file(root, database, options.address, options.mail_port))
    (root / ".runtime").write_text("2\n")
    for folder in ("media/seeds", "media/gallery", "var/cache", "var/log", "themes/marrow/overrides"):
        (root / folder).mkdir(parents=True, exist_ok=True)
    for number, line in enumerate(VARIETIES, 1):
        (root / "media/seeds" / f"{slug(line.split('|')[0])}.png").write_bytes(picture(160, 120, number))
    for number in range(1, len(CAPTIONS) + 1):
        (root / "media/gallery" / f"wall-{number}.png").write_bytes(picture(240, 160, number + 40))
    shutil.copy(Path(__file__).parent / "overrides" / "variety.html", root / "themes/marrow/overrides/variety.html")
    # A local edit, as somebody makes one for the day of the swap and forgets it.
    calendar = root / "extensions/events-calendar/main.py"
    calendar.write_text(calendar.read_text().replace(
        '    return "<li>"',
        '    if "swap" in event["title"].lower():\n        parts.append("bring your own envelopes")\n    return "<li>"'))  # fmt: skip
    if "path" in database:
        Path(database["path"]).parent.mkdir(parents=True, exist_ok=True)
        Path(database["path"]).touch()
    with db.open_engine({f"database.{key}": value for key, value in database.items()}).work() as work:
        for statement in TABLES.split(";\n"):
            if statement.strip():
                work.run(statement)
        fill(work, options.address, serial, members.password_mark)
        for folder in sorted((root / "extensions").iterdir()):
            work.run("INSERT INTO extensions VALUES (?, 1)", folder.name)


if __name__ == "__main__":
    main()

"""Faults planted on the demonstration's site by a seed, and how many of them a trial finds and lays to the step that
brought them in.

    python benchmarks/planted_faults.py [SEED] [ROUNDS] [sqlite|mariadb|postgres] [--masked]

A round is a trial of a plan whose steps plant one fault each, on different parts of the site, with harmless steps
between them. A fault counts as found when the trial tells of its effect (not merely that a file changed), and lays that
to its step. The same findings are put together once more as if one step had done it all: faults that share an entry
then swallow one another. With ``--masked`` the last step of each round makes every page of the site fail, so that the
end shows nothing of the others: each has to be told all the same, as seen at its step. The entries that a person reads
are held against the number of causes."""

from __future__ import annotations

import contextlib
import json
import random
import sqlite3
import subprocess
import sys
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from described_scene import PROGRAM, described_scene

from keenharbor.compare import Finding, Weight
from keenharbor.demo.scene import Scene
from keenharbor.trial import causes

sys.path[:0] = [str(Path(__file__).resolve().parents[1] / "examples")]
from planting import Fault, Scored, edit, score, shell, sql, steps_of  # noqa: E402

HEAD = 'format = 1\n[plan]\nsite = "marrow-lane"\ncore = "3.4"\nruntime = "2"\n'


MEMBERS = "core/members.py"
PAGE = "core/templates/page.html"
VARIETY = "themes/marrow/overrides/variety.html"
OPENED = (
    "import configparser, sqlite3; ini = configparser.ConfigParser(); ini.read('settings.ini'); "
    "db = sqlite3.connect(ini['database']['path'])"
)


def remade(table: str, old: str, new: str) -> str:
    """A step that makes a table anew with a part of its definition replaced, and fills it with what it held."""
    code = (
        f"{OPENED}; "
        f"ddl = db.execute('SELECT sql FROM sqlite_master WHERE name = ?', ({table!r},)).fetchone()[0]; "
        f"assert {old!r} in ddl, ddl; new = ddl.replace({old!r}, {new!r}).replace({table!r}, 'remade', 1); "
        f"db.executescript('PRAGMA legacy_alter_table = 1; BEGIN; ' + new + '; INSERT INTO remade SELECT * FROM "
        f"{table}; "
        f"DROP TABLE {table}; ALTER TABLE remade RENAME TO {table}; COMMIT')"
    )
    return f'kind = "command"\ncommand = [{json.dumps(sys.executable)}, "-c", {json.dumps(code)}]\n'


def definitions() -> list[Fault]:
    """Faults that only the definitions tell, held against what the release makes of an empty database (SQLite)."""

    def fault(kind: str, step: str, where: str, *takes: str) -> Fault:
        return Fault(kind, step, ("schema-unlike",), where, frozenset(takes))

    return [
        fault("a column of another type", remade("events", "place TEXT", "place VARCHAR(20)"), "events.place",
            "events-made"),
        fault("a column that may be empty", remade("gallery_pictures", "caption TEXT NOT NULL", "caption TEXT"),
            "gallery_pictures.caption", "wall-made", "gallery"),
        fault("a default lost", remade("members", "suspended INTEGER NOT NULL DEFAULT 0", "suspended INTEGER NOT NULL"),
            "members.suspended", "members-made"),
        fault("a key that is not unique any more", remade("varieties", "slug VARCHAR(80) NOT NULL UNIQUE",
            "slug VARCHAR(80) NOT NULL"), "varieties.slug", "varieties-made"),
        fault("an index lost", sql("DROP INDEX loans_by_email"), "loans index", "loans-made"),
        fault("a key too many", sql("CREATE UNIQUE INDEX one_name ON settings (value)"), "settings unique",
            "settings-made"),
    ]  # fmt: skip


def makers(rng: random.Random, scene: Scene) -> list[Callable[[], Fault]]:
    """One maker a kind; each call picks another place."""
    pictures = sorted(p.name for p in (scene.root / "media/seeds").glob("*.png"))
    walls = sorted(p.name for p in (scene.root / "media/gallery").glob("*.png"))
    number = rng.randrange

    def fault(kind: str, step: str, told: str, where: str, *takes: str) -> Fault:
        return Fault(kind, step, tuple(told.split()), where, frozenset(takes))

    def picture(kind: str, told: str, command: str) -> Fault:
        name = rng.choice(pictures)
        other = rng.choice([p for p in pictures if p != name])
        path = f"media/seeds/{name}"
        return fault(kind, shell(command.format(path=path, other=f"media/seeds/{other}"), path), told, f"/{path}", path)

    def grower() -> str:
        return rng.choice(["bean", "fruit", "root", "leaf"])

    def a_block_is_gone() -> Fault:
        kind = grower()
        wrong = kind[:-1] + chr(ord(kind[-1]) + 1)
        text = (
            f"UPDATE settings SET value = REPLACE(value, '\"{kind}\"', '\"{wrong}\"') WHERE name = 'blocks.placement'"
        )
        return fault("a block gone on some pages", sql(text), "block-gone", "#growers-notes", "placement")

    def garbled() -> Fault:
        row = number(1, 50)
        text = f"UPDATE notes SET body = 'SÃ¤mlinge fÃ¼r {row} GÃ¤rten, schÃ¶n' WHERE id = {row}"
        return fault("text in a wrong encoding", sql(text), "encoding", "", "notes")

    def field() -> Fault:
        form, name, file = rng.choice([
            ("search", 'name="q"', "extensions/seed-search/main.py"),
            ("borrow", 'name="email"', "extensions/loan-desk/desk.html"),
            ("borrow", 'name="name"', "extensions/loan-desk/desk.html"),
            ("login", 'name="password"', "core/templates/login.html"),
        ])  # fmt: skip
        return fault(
            "a form field lost",
            edit(file, name, 'title="x"'),
            "field-lost",
            form,
            form,
            "log-in" if form == "login" else form,
        )

    def order() -> Fault:
        file, old, page, take = rng.choice([
            (MEMBERS, "SELECT * FROM varieties ORDER BY name", "/varieties", "seed-list"),
            ("extensions/events-calendar/main.py", "ORDER BY starts", "/calendar", "calendar"),
        ])  # fmt: skip
        return fault("a wrong sort order", edit(file, old, old + " DESC"), "order-changed text-changed", page, take)

    def slower() -> Fault:
        file, old, page, take = rng.choice([
            ("extensions/events-calendar/main.py", "        with site.engine.work() as work:", "/calendar",
                "calendar-pace"),
            ("extensions/gallery-wall/main.py", "        with site.engine.work() as work:", "/gallery", "gallery"),
        ])  # fmt: skip
        wait = rng.choice([0.012, 0.03])
        return fault(
            "a page much slower",
            edit(file, old, f"        __import__('time').sleep({wait})\n{old}"),
            "slower",
            page,
            take,
        )

    def setting() -> Fault:
        value = number(20, 90)
        text = (
            f"UPDATE settings SET value = '{{\"per_page\": {value}, \"notes_too\": true}}' WHERE name = 'seed-search'"
        )
        return fault("a setting reset", sql(text), "setting-changed", "seed-search.per_page", "seed-search")

    def rows() -> Fault:
        table = rng.choice(["events", "notes"])
        first = number(1, 40)
        takes = {"events": ("calendar", "events"), "notes": ("notes",)}[table]
        return fault(
            "rows lost",
            sql(f"DELETE FROM {table} WHERE id BETWEEN {first} AND {first + number(1, 6)}"),
            "rows-lost",
            table,
            *takes,
        )

    def fails() -> Fault:
        name, page, take = rng.choice(
            [("events-calendar", "/calendar", "calendar"), ("gallery-wall", "/gallery", "gallery")]
        )
        old = "        with site.engine.work() as work:"
        return fault("a page fails",
            edit(f"extensions/{name}/main.py", old, "        raise OSError('planted')\n" + old), "page-fails", page,
                     take, f"{take}-pace", "events" if take == "calendar" else "wall")  # fmt: skip

    def title() -> Fault:
        return fault("a title changed", edit(PAGE, "<title>{{title}}</title>", f"<title>{number(99)} "
            f"{{{{title}}}}</title>"),
                     "title-changed", "title", "title")  # fmt: skip

    def words() -> Fault:
        row = number(1, 24)
        return fault(
            "text lost",
            sql(f"UPDATE varieties SET body = '' WHERE id = {row}"),
            "text-lost text-changed",
            "#growing",
            "varieties",
        )

    def plain(kind: str, step: str, told: str, where: str, *takes: str) -> Callable[[], Fault]:
        return lambda: fault(kind, step, told, where, *takes)

    wall = rng.choice(walls)
    return [
        a_block_is_gone, garbled, field, order, slower, setting, rows, fails, title, words,
        lambda: picture("a picture broken", "picture-broken", "echo nonsense > {path}"),
        lambda: picture("a picture missing", "file-broken", "rm {path}"),
        lambda: picture("another picture", "picture-changed picture-resized", "cp {other} {path}; printf x >> {path}"),
        plain("a picture missing on the wall", shell(f"rm media/gallery/{wall}", "media/*"), "file-broken", wall,
            "wall"),
        plain("a style sheet missing", shell("rm themes/marrow/assets/theme.css", "themes/*"), "file-broken",
            "theme.css", "style"),
        plain("a log-in that fails", edit(MEMBERS, "2000).hex()", "2001).hex()"), "check-failed", "logs in", "log-in"),
        plain("a search that returns nothing",
            edit("extensions/seed-search/main.py", 'like = f"%{words}%"', 'like = "%zzz%"'),
              "check-failed", "search", "search"),
        plain("a redirect loop", edit(MEMBERS, "    def about(request):\n", "    def about(request):\n        from "
            "core.app import redirect\n\n"
                                      "        return redirect('/about')\n"), "redirect-loop", "/about", "about"),
        plain("a setting lost", sql("DELETE FROM settings WHERE name = 'desk.greeting'"), "setting-lost",
            "desk.greeting", "greeting"),
        plain("an error only for logged-in users", edit(MEMBERS, "        with site.engine.work() as work:\n           "
            " loans",
              "        raise OSError('planted')\n        with site.engine.work() as work:\n            loans"),
              "page-fails log-in-failed check-failed", "log", "log-in", "admin", "admin-title", "account"),
        plain("mail that is not sent",
            edit("extensions/loan-mail/main.py", '"mail.port"]), timeout', '"mail.port"]) + 1, timeout'),
              "check-failed", "mail", "mail", "borrow"),
        plain("hidden from search engines", edit(PAGE, "{{extra}}", '{{extra}}<meta name="robots" content="noindex">'),
            "robots-changed",
              "robots", "robots"),
        plain("a wrong canonical address", edit(PAGE, 'href="{{canonical}}"', 'href="{{canonical}}x"'),
            "canonical-changed", "canonical",
              "canonical"),
        plain("a broken link", edit(PAGE, "<p>Runs on", '<p><a href="/nowhere">x</a> Runs on'), "link-broken",
            "/nowhere", "foot"),
        plain("a table gone", sql("DROP TABLE gallery_pictures"), "schema-gone page-fails rows-lost", "gallery",
            "gallery", "gallery-pace",
              "wall"),
        plain("headings that are none any more", edit(VARIETY, "<h1>{{name}}</h1>", "<p>{{name}}</p>"),
            "headings-changed", "#variety",
              "heading"),
        plain("saving fails", edit(MEMBERS, '        saved = ""\n', '        saved = ""\n        assert request.method '
            '!= "POST"\n'), "check-failed",
              "saves", "log-in", "about"),
        plain("only the error log tells", edit("extensions/growers-notes/main.py", "    def all_notes(request):\n",
              "    def all_notes(request):\n        site.log_error('planted')\n"), "log", "planted", "log"),
        plain("a page at another address", shell("sed -i 's#\"/notes\"\\] = all#\"/all-notes\"] = all#' "
            "extensions/growers-notes/main.py; "
              "sed -i 's#(\"/notes\", \"Growers#(\"/all-notes\", \"Growers#' core/app.py", "core/*", "extensions/*"),
              "page-moved page-gone page-fails link-broken", "notes", "notes", "log"),
        # In the administration, which only its members see.
        plain("a field of the administration lost", edit("core/templates/admin.html", 'name="per_page"', 'title="x"'),
            "field-lost check-failed", "per_page", "admin"),
        plain("a title of the administration changed", edit(MEMBERS, '"Edit the site", site.fill', '"Change it", '
            "site.fill"), "title-changed", "/admin", "admin-title"),
        plain("a page of the administration fails", edit(MEMBERS, '        saved = ""\n', '        saved = ""\n        '
            'assert request.method != "GET"\n'), "page-fails check-failed", "admin", "log-in", "admin", "admin-title",
            "about"),
        plain("the administration open to all",
            edit(MEMBERS, 'if not request.member or request.member["role"] != "admin":', "if False:"),
            "open-to-all page-moved redirect-gone text-changed", "/admin", "admin", "admin-title"),
        plain("a list of the member's gone", edit(MEMBERS, "<ul id='my-loans'>{rows}</ul>", ""),
            "block-gone list-gone text-lost", "my-loans", "account"),
        plain("the way to the administration gone", edit(MEMBERS, '<p><a href="/admin">Edit the site</a></p>', ""),
            "link-gone", "/admin", "account", "admin", "admin-title"),
        plain("a heading of the administration gone", edit("core/templates/admin.html", "<h1>Edit the site</h1>", ""),
            "headings-changed text-lost block-gone text-changed", "/admin", "admin", "admin-heading"),
        plain("the administration asks less", edit("core/templates/admin.html", "Results on a page", "Results"),
            "text-lost text-changed", "/admin", "admin", "admin-words"),
        # What only saving shows.
        plain("what is saved is another text", edit(MEMBERS, 'request.form["about"])', 'request.form["about"][:3])'),
            "check-failed", "saves", "about", "saved"),
        plain("the database refuses what a visitor saves", sql("CREATE TRIGGER no_loans BEFORE INSERT ON loans BEGIN "
            "SELECT RAISE(FAIL, 'planted'); END"), "check-failed", "borrow", "mail", "borrow", "loans-made"),
        plain("a form that is refused", edit(MEMBERS, 'request.method == "POST" and token_fits(site, request)',
            'request.method == "POST" and False'), "check-failed", "saves", "log-in", "about", "admin"),
    ]  # fmt: skip


def rounds_of(rng: random.Random, scene: Scene, count: int, *, by_definitions: bool = False) -> list[list[Fault]]:
    """Rounds of faults that do not get in each other's way; every kind in as many rounds as it fits into."""
    found = []
    for number in range(count):
        chosen: list[Fault] = []
        taken: set[str] = set()
        kinds = makers(rng, scene)
        # Each round begins with other kinds, so that all have their turn.
        start = number * len(kinds) // count
        order = kinds[start:] + kinds[:start]
        if by_definitions:
            some = definitions()
            order = [(lambda made=made: made) for made in some[number % 2 :: 2]] + order  # type: ignore[misc]
        for make in order:
            fault = make()
            if not taken & fault.takes and len(chosen) < 13:
                chosen.append(fault)
                taken |= fault.takes
        rng.shuffle(chosen)
        found.append(chosen)
    return found


MASK = Fault(
    "the whole site fails", edit("core/app.py", "    def answer(self, request):\n", "    def answer(self, request):\n"
        "        raise OSError('planted')\n"),
    ("page-fails", "page-gone", "site-down"), "/", frozenset(),
)  # fmt: skip
# Paces are measured at the end alone, and what no page shows at its step cannot be masked.
NOT_MASKED = ("a page much slower", "a setting reset", "a setting lost", "rows lost", "only the error log tells")


def rehearse(scene: Scene, faults: Sequence[Fault]) -> tuple[Scored, list[str]]:
    """A trial of ``faults``: what came of it, and the entries that would hold several of them if all had been of one
    step."""
    (scene.folder / "upgrade.toml").write_text(HEAD + steps_of(faults))
    ran = subprocess.run(
        [PROGRAM, "trial", "run", "--go-on", "--json"], cwd=scene.folder, capture_output=True, text=True, check=False
    )
    told = json.loads(ran.stdout)
    scored = score(told, faults)
    return scored, shared_entries(told["findings"], faults, scored.fitting)


def shared_entries(
    told: Sequence[dict[str, object]], faults: Sequence[Fault], fitting: Mapping[int, set[str]]
) -> list[str]:
    """Entries in which several faults would lie, had all the findings come by one step."""
    found = []
    for entry in causes.entries([replace(Finding.from_json(f), step="all") for f in told]):
        inside = {f.id for f in entry.findings if f.weight is not Weight.NOTE}
        held = [faults[n].kind for n, ids in fitting.items() if ids and ids <= inside]
        if len(held) > 1:
            found.append(" + ".join(held))
    return found


def say_how_it_is_built(scene: Scene) -> None:
    """The stand-in system has no installer: a script that makes the tables as the site has them stands for it."""
    with contextlib.closing(sqlite3.connect(scene.database)) as db:
        every = "SELECT sql FROM sqlite_master WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite%'"
        made = [row[0] for row in db.execute(every)]
    build = scene.folder / "build.py"
    build.write_text(OPENED.replace("; ", "\n") + f"\nfor made in {made!r}:\n    db.execute(made)\ndb.commit()\n")
    command = json.dumps([sys.executable, str(build)])
    with scene.site_file.open("a") as file:
        file.write(f"\n[commands]\nbuild_schema = {command}\n")


def main() -> None:
    """Plant, rehearse, count."""
    words = [w for w in sys.argv[1:] if w != "--masked"]
    masked = "--masked" in sys.argv
    seed = int(words[0]) if words else 1
    count = int(words[1]) if len(words) > 1 else 6
    engine = words[2] if len(words) > 2 else "sqlite"
    rng = random.Random(seed)
    by_kind: dict[str, Counter[str]] = {}
    false: list[str] = []
    entries = 0
    shared: list[str] = []
    by_definitions = engine == "sqlite" and not masked
    with described_scene(engine) as scene:
        if by_definitions:
            say_how_it_is_built(scene)
        subprocess.run([PROGRAM, "snapshot", "take"], cwd=scene.folder, check=True, capture_output=True)
        for faults in rounds_of(rng, scene, count, by_definitions=by_definitions):
            planted = [*(f for f in faults if f.kind not in NOT_MASKED), MASK] if masked else faults
            seen, held = rehearse(scene, planted)
            false += seen.false
            entries += seen.entries
            shared += held
            for number, fault in enumerate(planted):
                by_kind.setdefault(fault.kind, Counter())[seen.outcomes[number]] += 1
    total = sum(sum(c.values()) for c in by_kind.values())
    right = sum(c["right"] for c in by_kind.values())
    for kind, counts in sorted(by_kind.items()):
        told = ", ".join(f"{n} {word}" for word, n in counts.items())
        print(f"{kind:<38} {told}")
    print(
        f"{right} of {total} found and laid to their step ({100 * right / total:.1f} %; bar 97 %), {len(by_kind)} "
        f"kinds, on {engine}{', each masked at the end' if masked else ''}"
    )
    print(f"{entries} entries to read that are more than notes, for {total} causes: {entries / total:.2f} (bar 1.3)")
    print(f"if all were of one step, entries with several causes: {', '.join(shared) or 'none'}")
    print(f"laid to harmless steps: {', '.join(false) or 'nothing'}" + (f" ({len(false)})" if false else ""))


if __name__ == "__main__":
    main()

"""The story: a made-up maintainer takes the Marrow Lane Seed Library from Tansy 3.4 to 4.0, and back again.

Every command is played as it would be typed; what the site looks like is asked of the site itself.
"""

from __future__ import annotations

import datetime
import subprocess
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

import httpx

from keenharbor.base.errors import KeenHarborError
from keenharbor.clone.mailbox import Mailbox
from keenharbor.demo.amend import AMENDMENTS, LATE_AMENDMENT, amended, amended_late
from keenharbor.demo.scene import Host, Scene, set_scene
from keenharbor.demo.visitors import SEEDS, borrow, loans_of, night_of_harm

FIRST_VISITORS = ("Maren Tull", "Idris Voss")
LATER_VISITORS = ("Paloma Rees", "Kit Sandor")
ROUTINE = """
[routine]
snapshot = "daily 03:10"
unusual = "after snapshot"
send = "after snapshot"
verify = "weekly"
"""

FLEET = """format = 1
[[group]]
name = "seeds"
sites = ["keenharbor.toml"]
"""

SHELF_CHECKS = """
# Scripted visits: a trial makes them before and after. Those that write are made on clones only.
[[check]]
name = "a search finds seeds"
steps = [{ get = "/search?q=sow", text = "/varieties/" }]

[[check]]
name = "a member logs in"
writes = true
steps = [
  { get = "/login" },
  { submit = "login", fields = { card = "ML-003", password = "cress-3" }, text = "Welcome" },
]

[[check]]
name = "the admin saves a page"
writes = true
steps = [
  { get = "/login" },
  { submit = "login", fields = { card = "ML-001", password = "cress-1" }, text = "Welcome" },
  { get = "/admin" },
  { submit = "edit", fields = {}, text = "Saved." },
]

[[check]]
name = "a visitor borrows a seed, and gets a mail"
writes = true
steps = [
  { get = "/loans" },
  { submit = "borrow", fields = { seed = "long-tom-carrot", name = "Trial Visitor", email = "trial@post.example" }, \
text = "Lent: Long Tom carrot", mail_to = "trial@post.example" },
]
"""


class Player(Protocol):
    """Plays a command of the tool in the demonstration's folder, and shows text of the story."""

    def run(self, *words: str) -> int: ...

    def say(self, text: str) -> None: ...

    def chapter(self, title: str) -> None: ...

    def shell(self, words: Sequence[str]) -> str: ...


@dataclass
class Told:
    """What came of the story: each command with its exit code, and what the site itself showed at each stage."""

    folder: str
    commands: list[tuple[str, int]] = field(default_factory=list)
    seen: dict[str, object] = field(default_factory=dict)

    def as_json(self) -> dict[str, object]:
        return {
            "folder": self.folder,
            "commands": [{"command": c, "exit_code": x} for c, x in self.commands],
            "seen": self.seen,
        }


def play(
    folder: Path, player: Player, port: int | None, serve: Callable[[Scene], None] | None, engine: str = "sqlite"
) -> Told:
    """Set the scene in ``folder`` and play the whole story; ``serve`` is called at the end, with the site running."""
    player.chapter("The scene: the Marrow Lane Seed Library, on Tansy 3.4 and loam 2")
    scene = set_scene(folder, port, engine)
    told = Told(str(scene.folder))
    player.say(f"The live site answers at {scene.address}; all of it is in {scene.folder}.")
    with Host(scene), Mailbox(scene.mail_port) as post:
        _Story(scene, player, told).play()
        told.seen["mails of live"] = len(post.messages)
        if serve is not None:
            serve(scene)
    return told


class _Story:
    def __init__(self, scene: Scene, player: Player, told: Told) -> None:
        self._scene, self._player, self._told = scene, player, told
        self._night = datetime.date.today()

    def _run(self, *words: str, expect: int) -> None:
        code = self._player.run(*words)
        self._told.commands.append((" ".join(("keenharbor", *words)), code))
        if code != expect:
            raise KeenHarborError(
                f"the story expected exit code {expect} of 'keenharbor {' '.join(words)}', not {code}"
            )

    def _page(self, path: str) -> str:
        with httpx.Client(base_url=self._scene.address, trust_env=False, timeout=20) as browser:
            return browser.get(path, headers={"Cache-Control": "no-cache"}).text

    def _look(self, stage: str) -> None:
        version = "4.0" if "Tansy 4.0" in self._page("/about") else "3.4"
        loans = loans_of(self._scene.database_place, (*FIRST_VISITORS, *LATER_VISITORS))
        self._told.seen[stage] = {"version": version, "loans": loans}
        self._player.say(
            f"The site itself shows: Tansy {version}; loans of {', '.join(loans) or 'none of our visitors'}."
        )

    def _visit(self, names: Sequence[str], offset: int) -> None:
        for number, name in enumerate(names):
            answer = borrow(self._scene.address, name, SEEDS[(offset + number) % len(SEEDS)])
            self._player.say(f"{name} at the loan desk: {answer}")

    def play(self) -> None:
        self._describe_and_judge()
        self._rehearse()
        self._carry_out()
        self._go_back()
        self._go_forward_again()
        self._watch_over_it()

    def _describe_and_judge(self) -> None:
        scene, run, player = self._scene, self._run, self._player
        player.chapter("1. Describe and inspect the site")
        launchers = [w for v in ("2", "3") for w in ("--launcher", f"{v}={scene.runtimes}/loam-{v}/bin/loam")]
        reload = f"{self._python()} {scene.host_program} reload --control {scene.control}"
        run("init", "site", "--platform", "tansy.toml", "--name", "marrow-lane", "--feed", "feed/feed.json",
            *launchers, "--reload", reload, expect=0)  # fmt: skip
        with scene.site_file.open("a", encoding="utf-8") as file:
            file.write(SHELF_CHECKS)
        player.say("Four scripted visits were added to keenharbor.toml: search, log in, edit, borrow.")
        run("survey", expect=0)
        player.chapter("2. Is it ready for Tansy 4.0?")
        run("ready", "--core", "4.0", expect=1)
        player.say("Blocked: one extension has no release for 4.0, and the runtime is too old for all of it.")

    @staticmethod
    def _python() -> str:
        import sys

        return sys.executable

    def _rehearse(self) -> None:
        scene, run, player = self._scene, self._run, self._player
        player.chapter("3. Save it, and draft a plan")
        run("snapshot", "take", "--label", "before-4.0", expect=0)
        run("plan", "draft", "--core", "4.0", "--runtime", "3", expect=0)
        player.chapter("4. First rehearsal, on a clone")
        run("trial", "run", expect=1)
        self._look("after the first trial")
        player.chapter("5. The plan is amended")
        plan = scene.folder / "upgrade.toml"
        plan.write_text(amended(plan.read_text()))
        for change in AMENDMENTS:
            player.say(f"{change.step}: {change.what}, since {change.why}")
        player.chapter("6. Second rehearsal")
        run("trial", "run", expect=0)
        run("snapshot", "list", expect=0)

    def _carry_out(self) -> None:
        run, player = self._run, self._player
        player.chapter("7. Meanwhile visitors borrow seeds on live")
        self._visit(FIRST_VISITORS, 0)
        player.chapter("8. The cutover")
        run("cutover", "--yes", expect=0)
        self._look("after the cutover")

    def _go_back(self) -> None:
        scene, run, player = self._scene, self._run, self._player
        player.chapter("9. Days later")
        soon = datetime.date.today() + datetime.timedelta(days=3)
        self._night = night_of_harm(scene.database_place, "member20@post.example", soon)
        player.say(f"The nightly task, which no clone ever runs, says: {self._nightly(self._night)}")
        answer = borrow(scene.address, "Ada Quill", SEEDS[0], "member20@post.example")
        self._told.seen["the late trouble"] = answer
        player.say(f"A member whose loans are in order tries to borrow: {answer}")
        self._visit(LATER_VISITORS, 2)
        run("compare", "before-4.0", "live", "--no-pages", expect=1)
        player.chapter("10. Back to the old site, with every loan")
        run("rollback", "--look", expect=0)
        player.say("The suspended members are the new release's doing, and nobody's: they do not come along.")
        run("rollback", "--without", "members.suspended", "--yes", expect=0)
        self._look("after the rollback")
        answer = borrow(scene.address, "Ada Quill", SEEDS[0], "member20@post.example")
        self._told.seen["the member again"] = answer
        player.say(f"The member tries again: {answer}")

    def _go_forward_again(self) -> None:
        scene, run, player = self._scene, self._run, self._player
        player.chapter("11. Forward again")
        plan = scene.folder / "upgrade.toml"
        plan.write_text(amended_late(plan.read_text()))
        player.say(f"{LATE_AMENDMENT.step}: {LATE_AMENDMENT.what}, since {LATE_AMENDMENT.why}")
        run("trial", "run", expect=0)
        run("cutover", "--yes", expect=0)
        self._look("after the second cutover")
        player.say(f"The nightly task says: {self._nightly(self._night + datetime.timedelta(days=1))}")
        answer = borrow(scene.address, "Ada Quill", SEEDS[1], "member20@post.example")
        self._told.seen["the member on the new site"] = answer
        player.say(f"The member at the loan desk: {answer}")
        player.say("The late watch, which the routine does an hour, a day, three days and a week after a cutover:")
        run("watch", expect=0)
        run("snapshot", "verify", expect=0)
        run("log", expect=0)

    def _watch_over_it(self) -> None:
        scene, run, player = self._scene, self._run, self._player
        player.chapter("12. From now on by itself, and in a second place")
        run("place", "add", "cellar", str(scene.folder / "cellar"), "--key-to", "cellar-key.txt", expect=0)
        with scene.site_file.open("a", encoding="utf-8") as file:
            file.write(ROUTINE)
        (scene.folder / "fleet.toml").write_text(FLEET, encoding="utf-8")
        player.say("A [routine] was added to keenharbor.toml; a timer of the system would run this:")
        run("tend", expect=0)
        run("place", "list", expect=0)
        run("fleet", "list", expect=0)
        player.say("And were this machine lost, the place and the key would be enough:")
        run("fetch", str(scene.folder / "cellar"), "--key", "cellar-key.txt", "--to", "fetched", expect=0)

    def _nightly(self, day: datetime.date) -> str:
        """What the nightly task says on a day."""
        launcher = f"{self._scene.runtimes}/loam-3/bin/loam"
        return self._player.shell([launcher, "site/tansy.py", "nightly", "--today", day.isoformat()]).strip()


def shell(folder: Path, words: Sequence[str]) -> str:
    """Run a program of the story in ``folder``; returns what it printed."""
    done = subprocess.run(list(words), cwd=folder, capture_output=True, text=True, timeout=60, check=False)
    return done.stdout + done.stderr

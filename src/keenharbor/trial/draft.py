"""From decisions to a plan that a person can read and change."""

from __future__ import annotations

import difflib
import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from keenharbor.base.progress import Progress
from keenharbor.base.text import now
from keenharbor.compare.proposals import propose_for_site
from keenharbor.host import AnyPath
from keenharbor.judge.readiness import Readiness
from keenharbor.site.checks import Decision
from keenharbor.site.edits import Installed, MergeConflict, edits_of, installed_packages, merge_three
from keenharbor.site.feed import Feed, NoFeed, Package, Release, allows
from keenharbor.site.pins import pin_files
from keenharbor.site.view import SiteView

PATCHES = "upgrade-patches"

HEAD = """\
# The plan of an upgrade: the steps in the order in which they are carried out.
# Read it, change it, rehearse it:   keenharbor trial run
# A step that fails is tried again 'retries' times; the trial goes on after a failed step, to show as much as it
# can in one go; the cutover never does: it puts everything back.
format = 1

[plan]
site = "{site}"
core = "{core}"
runtime = "{runtime}"
drafted = "{drafted}"
"""


CORE_SECONDS = 900
MIGRATION_SECONDS = 600


@dataclass(frozen=True)
class Drafted:
    """A plan as text; by package, the patch that carries local edits which merge cleanly onto the new release."""

    text: str
    patches: Mapping[str, str]

    @property
    def has_steps(self) -> bool:
        """Whether there is anything to do: a purge or a check alone is nothing."""
        kinds = re.findall(r'(?m)^kind = "([\w-]+)"', self.text)
        return bool(set(kinds) - {"purge-cache", "check"})


def _lacks_checks(site: SiteView) -> bool:
    """Whether a trial would not log in, or not write."""
    return site.model.log_in is None or not any(c.writes for c in site.model.check)


def proposed_checks(site: SiteView, progress: Progress) -> str:
    """Checks for the site file from the forms on the site's pages; empty where it has a log-in and one that writes."""
    return propose_for_site(site, progress) if _lacks_checks(site) else ""


def draft_plan(
    site: SiteView, feed: Feed, readiness: Readiness, proposed: str = "", own: OwnSteps | None = None
) -> Drafted:
    """``upgrade.toml`` for what `keenharbor.judge.readiness.judge` decided, with comments that say why each step
    stands where it does. ``proposed`` are checks for the site file, told at the end where it lacks some."""
    draft = _Draft(site, feed, readiness, proposed, own or OwnSteps())
    return Drafted("\n".join(draft.parts()), draft.patches)


@dataclass(frozen=True)
class OwnSteps:
    """What a person wants carried out where no feed says it: the ``release`` (folder or archive, beside the site file)
    and ``commands``."""

    release: str | None = None
    commands: tuple[tuple[str, ...], ...] = ()


class _Draft:
    def __init__(
        self, site: SiteView, feed: Feed, readiness: Readiness, proposed: str, own: OwnSteps
    ) -> None:  # fmt: skip
        self._site, self._feed, self._readiness, self._proposed = site, feed, readiness, proposed
        self._own = own
        self.patches: dict[str, str] = {}

    def parts(self) -> Iterator[str]:
        """The plan, piece by piece."""
        site, readiness = self._site, self._readiness
        yield HEAD.format(
            site=site.name, core=readiness.core, runtime=readiness.runtime, drafted=f"{now():%Y-%m-%d %H:%M} UTC"
        )
        for decision in readiness.decisions:
            if decision.open:
                yield (
                    f"# STILL OPEN: {decision.name}. {decision.reason.capitalize()}; without a decision it stays\n"
                    f"# and is likely to break. Draft again with {decision.proposal}, or add a step here.\n"
                )
        removals = [d for d in readiness.decisions if d.action == "remove"]
        if removals and self._feed.has_packages:
            yield "# -- First what cannot come along: the old core still runs, so a surprise shows at once.\n"
            for decision in removals:
                yield _table(name=f"remove-{decision.name}", kind="remove", uninstall=decision.name)
        if isinstance(self._feed, NoFeed):
            yield from self._by_hand()
        elif not self._feed.has_packages:
            yield from self._distributions()
        else:
            early, late = self._updates()
            if early:
                yield "# -- Updates that run on the core and runtime of today as well as on the new ones.\n"
                yield from map(self._package, early)
            yield from self._switched(on=False)
            yield from self._runtime()
            yield from self._core()
            if late:
                yield "# -- Updates that want the new core or runtime.\n"
                yield from map(self._package, late)
        yield from self._switched(on=True)
        yield from self._end()

    def _updates(self) -> tuple[list[Decision], list[Decision]]:
        """Updates and replacements that run on what is there today, and those that do not."""
        early: list[Decision] = []
        late: list[Decision] = []
        for decision in self._readiness.decisions:
            if decision.action in ("update", "replace"):
                release = self._feed.need(decision.other or decision.name, decision.version or "")
                runs_now = allows(release.requires.core, self._readiness.core_now) and allows(
                    release.requires.runtime, self._readiness.runtime_now
                )
                (early if runs_now else late).append(decision)
        return early, late

    def _runtime(self) -> Iterator[str]:
        if self._readiness.runtime != self._readiness.runtime_now:
            yield "# -- The runtime by itself, so that what breaks now is the runtime's doing.\n"
            yield _table(name="runtime", kind="runtime", version=self._readiness.runtime, save=True)

    def _core(self) -> Iterator[str]:
        readiness, package = self._readiness, self._site.model.core.package
        if readiness.core == readiness.core_now:
            return
        yield (
            "# -- The core. Files that the new release does not have any more stay, unless you set remove_dropped = "
            "true.\n"
        )
        if readiness.route[:-1]:
            yield "# -- It cannot be put over the present one directly: each release on the way is a step of its own.\n"
        for version in (*readiness.route[:-1], readiness.core):
            release = self._feed.need(package, version)
            yield from self._notes(release)
            last = version == readiness.core
            yield _table(
                name="core" if last else f"core-{version}", kind="package", package=package, version=version,
                carry_local_edits=False, remove_dropped=False, **self._tries(release), time_limit=CORE_SECONDS,
                save=True,
            )  # fmt: skip

    def _switched(self, *, on: bool) -> Iterator[str]:
        """Extensions that are off meanwhile, off; and those of them that come back, on again."""
        chosen = [d for d in self._readiness.decisions if d.off == "meanwhile" or (d.off and not on)]
        if not chosen:
            return
        yield (
            "# -- On again what was off meanwhile.\n"
            if on
            else "# -- Off what disturbs the upgrade, or does not fit.\n"
        )
        command = self._site.model.commands.switch_on if on else self._site.model.commands.switch_off
        word = "on" if on else "off"
        for decision in chosen:
            if command is not None:
                yield _table(name=f"{word}-{decision.name}", kind="extension", extension=decision.name, on=on)
            else:
                yield _table(name=f"{word}-{decision.name}", kind="wait", say=f"Switch {decision.name} {word}.")

    def _end(self) -> Iterator[str]:
        if self._site.model.commands.purge_cache is not None:
            yield "# -- Last, so that visitors do not go on getting old pages.\n"
            yield _table(name="purge", kind="purge-cache")
        if _lacks_checks(self._site):
            yield (
                "# A trial sees more with a log-in ('log_in' under [look]) and a check that writes ('writes' in a "
                "[[check]]):\n"
                "# some breakages let every page load and fail only when somebody saves."
                + ("" if self._proposed else " 'init --pages' proposes checks.\n")
            )
            if self._proposed:
                lines = "".join(
                    f"#     {line.removeprefix('# ')}".rstrip() + "\n" for line in self._proposed.strip().splitlines()
                )
                yield f"# From the forms on the site's pages, for {self._site.site_file.name}:\n#\n{lines}"
        if self._site.model.check:
            yield (
                "# -- What a person would try: the scripted visits of the site file. On live those that write are "
                "left out.\n"
            )
            yield _table(name="check", kind="check")

    def _by_hand(self) -> Iterator[str]:
        """Steps for a site without a feed: what a person has named, and what is left to them."""
        readiness, own = self._readiness, self._own
        yield from self._runtime()
        if own.release is not None:
            yield (
                "# -- The release, as it was unpacked. Settings, media, cache and logs of the site stay as they are.\n"
            )
            yield _table(
                name="release",
                kind="release",
                source=own.release,
                remove_dropped=False,
                time_limit=CORE_SECONDS,
                save=True,
            )
        elif readiness.core != readiness.core_now:
            yield "# -- No feed is named and no release: this is a person's to do, in the trial as on live.\n"
            yield "# Draft again with --release FOLDER, and it is carried out.\n"
            yield _table(name="release", kind="wait", say=f"Put the files of {readiness.core} in place.")
        for number, command in enumerate(own.commands, 1):
            name = "run" if len(own.commands) == 1 else f"run-{number}"
            yield _table(name=name, kind="command", command=list(command), time_limit=MIGRATION_SECONDS)

    def _distributions(self) -> Iterator[str]:
        """Steps for a site whose packages are distributions, which the runtime's own installer puts in place."""
        readiness, site = self._readiness, self._site
        moves = {
            d.other or d.name: d.version for d in readiness.decisions if d.action in ("update", "replace") and d.version
        }
        if readiness.core != readiness.core_now:
            moves[site.model.core.distribution or site.model.core.package] = readiness.core
        along = dict(c.along for c in readiness.checks if c.along is not None)
        wanted = [f"{n}=={v}" for n, v in sorted((along | moves).items())]
        gone = sorted(d.name for d in readiness.decisions if d.action in ("remove", "replace"))
        switch = site.model.extensions.switch if site.model.extensions is not None else None
        for name in gone:
            listed = (
                f" out of {switch.setting} in {switch.file or site.settings_path}" if switch and switch.setting else ""
            )
            yield f"# -- First what cannot come along. {name} must be off before it is taken out.\n"
            yield _table(name=f"off-{name.lower().replace('_', '-')}", kind="wait", say=f"Take {name}{listed}.")
        yield from self._switched(on=False)
        if wanted or gone:
            yield "# -- All that must move at once: one set of versions, since each asks for the others.\n"
            yield _table(
                name="distributions", kind="distributions", wants=wanted, removes=gone, time_limit=CORE_SECONDS,
                save=True
            )  # fmt: skip
        if wanted and site.model.commands.migrate is not None:
            yield "# -- The system's own migration, by itself, so that a failure is its own.\n"
            yield _table(
                name="migrate", kind="command", command=list(site.model.commands.migrate), time_limit=MIGRATION_SECONDS
            )
        elif wanted:
            yield (
                "# -- The site file says of no [commands] migrate: what the new versions do to the database is up to "
                "you.\n"
            )
            yield _table(name="migrate", kind="wait", say="Run the migration of the new versions.")
        if wanted or gone:
            new = sorted(d.other for d in readiness.decisions if d.action == "replace" and d.other)
            yield from self._pins(gone, new)

    def _pins(self, gone: list[str], new: list[str]) -> Iterator[str]:
        """What the next deployment installs."""
        found = pin_files(p for p, e in self._site.scan().entries.items() if e.kind == "file")
        if found.ours:
            yield "# -- What the next deployment installs, so that it does not undo the upgrade.\n"
            yield _table(name="pins", kind="pins", files=list(found.ours), removes=gone, adds=new)
        if found.locks:
            yield (
                f"# {', '.join(found.locks)}: made by a tool of its own. Renew it with that tool, by hand or with a "
                "step\n# of the kind 'command', or the next deployment takes the old versions again.\n"
            )

    @staticmethod
    def _tries(release: Release) -> dict[str, int]:
        return {"retries": release.retries, "retry_pause": 2} if release.retries else {}

    @staticmethod
    def _notes(release: Release) -> list[str]:
        return (
            [f"# Notes of {release.name} {release.version}: {' '.join(release.notes.split())}"] if release.notes else []
        )

    def _package(self, decision: Decision) -> str:
        name = decision.other or decision.name
        release = self._feed.need(name, decision.version or "")
        comments = self._notes(release)
        facts: dict[str, str | bool | int | list[str]] = {
            "kind": "package",
            "package": name,
            "version": release.version,
        }
        if decision.action == "replace":
            return "\n".join(
                [
                    *comments,
                    _table(name=f"replace-{decision.name}", **facts, replaces=decision.name, **self._tries(release)),
                ]
            )
        installed = next(p for p in installed_packages(self._site) if p.name == name)
        old = self._feed.find(name, installed.version)
        edits = edits_of(self._site.path(), installed, self._feed.package(old)) if old is not None else []
        if edits and old is not None:
            listed = ", ".join(e.path for e in edits)
            comments.append(f"# Edited here by hand: {listed}. carry_local_edits = true takes the edit over.")
            patch = carried_patch(self._site.path(), installed, self._feed.package(old), self._feed.package(release))
            if patch:
                self.patches[name] = patch
                comments.append(f"# What it would carry over stands in {PATCHES}/{name}.patch, to be read before.")
        return "\n".join([*comments, _table(name=f"update-{name}", **facts, **self._tries(release))])


def carried_patch(root: AnyPath, installed: Installed, old: Package, new: Package) -> str:
    """What local edits come to on the new release, as one unified diff; those that conflict, or are no text, are left
    out."""
    parts = []
    for edit in edits_of(root, installed, old):
        file = edit.path.removeprefix(installed.folder + "/") if installed.folder else edit.path
        base, theirs = old.files[file], new.files.get(file)
        if theirs is None or edit.removed:
            continue
        try:
            texts = [x.decode("utf-8") for x in (base, theirs, (root / edit.path).read_bytes())]
            merged = merge_three(*texts)
        except (UnicodeDecodeError, MergeConflict):
            continue
        lines = difflib.unified_diff(
            texts[1].splitlines(keepends=True), merged.splitlines(keepends=True), f"a/{edit.path}", f"b/{edit.path}"
        )
        parts += [line if line.endswith("\n") else f"{line}\n\\ No newline at end of file\n" for line in lines]
    return "".join(parts)


def _table(**values: str | bool | int | list[str]) -> str:
    lines = ["[[step]]"]
    for key, value in values.items():
        lines.append(f"{key} = {json.dumps(value, ensure_ascii=False)}")
    return "\n".join(lines) + "\n"

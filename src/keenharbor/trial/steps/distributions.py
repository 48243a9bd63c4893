"""The step ``distributions``: what is installed in the site's virtual environment."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from keenharbor.site.checks import Check, Verdict
from keenharbor.site.components import normal_name, pins_of
from keenharbor.trial.steps.base import Outcome, PlanState, StepBase, StepFailed, Workplace, output_of


class DistributionsStep(StepBase):
    """Let the installer of the site's virtual environment put distributions in place (``wants``: ``name==version``) and
    take others out (``removes``). A clone has an environment of its own; on live it is done beside, and put in place
    whole."""

    kind: Literal["distributions"]
    wants: list[Annotated[str, Field(pattern=r"^[A-Za-z0-9][\w.-]*(==[\w.!+-]+)?$")]] = []
    removes: list[Annotated[str, Field(pattern=r"^[A-Za-z0-9][\w.-]*$")]] = []

    def told(self) -> str:
        out = [f"take out {', '.join(self.removes)}"] if self.removes else []
        return "; ".join([*([f"install {', '.join(self.wants)}"] if self.wants else []), *out]) or "nothing"

    def check(self, state: PlanState) -> list[Check]:
        found: list[Check] = []
        if state.site.environment() is None:
            found += self.blocked(
                "the site has no virtual environment of its own",
                "name the folder of its packages: 'packages' under [runtime]",
            )
        core = normal_name(state.site.model.core.distribution or "")
        by_name = {normal_name(n): n for n in state.versions}
        for word in self.wants:
            name, _, version = word.partition("==")
            found += self._in_index(name, version, state)
            if normal_name(name) == core and version:
                state.core = version
            elif normal_name(name) in by_name and version:
                state.versions[by_name[normal_name(name)]] = version
                release = state.feed.find(name, version) if state.feed is not None else None
                asked = (release.requires.core, release.requires.runtime) if release else ("", "")
                state.asks[by_name[normal_name(name)]] = asked
        for name in self.removes:
            if normal_name(name) not in by_name:
                found.append(self.found(Verdict.CAUTION, f"'{name}' is not installed at that point", "take it out"))
            else:
                del state.versions[by_name[normal_name(name)]]
        return found

    def _in_index(self, name: str, version: str, state: PlanState) -> list[Check]:
        feed = state.feed
        if not version or feed is None or not feed.of(name) or feed.find(name, version) is not None:
            return []
        there = ", ".join(r.version for r in feed.of(name)[-5:])
        return self.blocked(f"the index has no {name} {version} (of late: {there})", "name another version")

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        if place.install is None or place.site.model.runtime.packages is None:
            raise StepFailed(
                "the site has no virtual environment of its own to install into ('packages' under [runtime])"
            )
        before = pins_of(place.site.packages())
        output = output_of(place.install(self.wants, self.removes, self.time_limit), self.time_limit)
        after = pins_of(place.site.packages())
        moved = {
            n: (before.get(n), after.get(n)) for n in before.keys() | after.keys() if before.get(n) != after.get(n)
        }
        asked = {normal_name(w.partition("==")[0]) for w in self.wants}
        outcome.versions |= {
            old: new for n, (old, new) in moved.items() if n in asked and old is not None and new is not None
        }
        told = [f"{n}: {old or 'new'} → {new or 'taken out'}" for n, (old, new) in sorted(moved.items())]
        return output + "\n" + "\n".join(told)

"""The step ``pins``: what the next deployment installs is what is installed now."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.text import plural
from keenharbor.site.checks import Check
from keenharbor.site.components import normal_name, pins_of
from keenharbor.site.part import Text
from keenharbor.site.pins import Pinning, with_pins
from keenharbor.site.view import SiteView
from keenharbor.trial.steps.base import Outcome, PlanState, StepBase, StepFailed, Workplace


class PinsStep(StepBase):
    """Bring the files that say which distributions a deployment installs in line with the site's virtual environment,
    so that the next deployment does not undo the upgrade: lists of requirements and of constraints, and
    ``pyproject.toml``. A wish that does not let the installed version be installed becomes ``==`` that version;
    ``removes`` are taken out, ``adds`` come into the first of ``files``. All else in them stays."""

    kind: Literal["pins"]
    files: Annotated[list[Text], Field(min_length=1)]
    removes: list[Text] = []
    adds: list[Text] = []

    def told(self) -> str:
        return f"let {', '.join(self.files)} ask for what is installed"

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        pinning = self._pinning(place.site)
        lacking = [n for n in self.adds if normal_name(n) not in pinning.installed]
        if lacking:
            raise StepFailed(f"{', '.join(lacking)} of 'adds' is not installed")
        made = self._made(place.site, pinning)
        outcome.touches = tuple(made)
        for path, text in made.items():
            place.site.put_code(path, text.encode("utf-8", "surrogateescape"))
        return f"{plural(len(made), 'file')} changed\n" + "\n".join(pinning.told)

    def check(self, state: PlanState) -> list[Check]:
        try:
            self._made(state.site, self._pinning(state.site))
        except StepFailed as failed:
            return self.blocked(failed.problem, "name the folder of its packages: 'packages' under [runtime]")
        except KeenHarborError as error:
            return self.blocked(error.what, error.advice or "correct 'files'")
        return []

    def _pinning(self, site: SiteView) -> Pinning:
        if site.model.runtime.packages is None:
            raise StepFailed("the site file does not say where the site's distributions are installed")
        runtime = site.told_versions()[1]
        known = {"python_full_version": runtime, "python_version": ".".join(runtime.split(".")[:2])}
        removed = {normal_name(n) for n in self.removes}
        return Pinning(pins_of(site.packages()), removed, known if runtime[:1].isdigit() else {})

    def _made(self, site: SiteView, pinning: Pinning) -> dict[str, str]:
        """The files as they are to be, as far as they change."""
        made = {}
        texts = {}
        for path in self.files:
            file = site.path(path)
            if not file.is_file():
                raise KeenHarborError(f"the site has no file {path}", advice="correct 'files'")
            texts[path] = file.exact_text()
        for path in reversed(self.files):
            adds = self.adds if path == self.files[0] else ()
            text = with_pins(path, texts[path], pinning, adds)
            if text != texts[path]:
                made[path] = text
        return made

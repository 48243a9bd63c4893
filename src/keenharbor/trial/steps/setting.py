"""The step ``setting``: set a key of a settings file, or a setting in the database."""

from __future__ import annotations

from typing import Literal

from keenharbor.database.cells import with_part
from keenharbor.site.checks import Check
from keenharbor.site.settings import form_of
from keenharbor.trial.steps.base import Outcome, PlanState, StepBase, StepFailed, Workplace
from keenharbor.trial.steps.common import settings_in_database, settings_table, write_setting


class SettingStep(StepBase):
    """Set a key of the settings file (``file``: ``section.key``; of another one: ``settings_file``) or a setting in the
    database (``database``: name, ``key``: what stands within it, dotted)."""

    kind: Literal["setting"]
    file: str | None = None
    settings_file: str | None = None
    database: str | None = None
    key: str | None = None
    value: str | int | float | bool

    def told(self) -> str:
        return f"set {self.file or self.database}{'.' + self.key if self.key else ''} to {self.value}"

    def check(self, state: PlanState) -> list[Check]:
        if self.file is None or self.file in state.site.settings():
            return []
        return self.blocked(
            f"the settings file has no '{self.file}'",
            "correct the key; 'keenharbor survey --why settings' tells the file",
        )

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        if self.file is not None:
            return self._in_file(self.file, place, outcome)
        if self.database is None or settings_table(place.site) is None:
            raise StepFailed("a setting step wants 'file' or 'database'")
        cell = settings_in_database(place.site).get(self.database)
        if cell is None:
            raise StepFailed(f"the database has no setting '{self.database}'")
        try:
            write_setting(place, self.database, with_part(cell, self.key.split(".") if self.key else [], self.value))
        except (KeyError, ValueError):
            raise StepFailed(f"the setting '{self.database}' has no '{self.key}'") from None
        place_in = f"{self.database}.{self.key}" if self.key else self.database
        outcome.settings = (place_in,)
        return f"{place_in} is {self.value}"

    def _in_file(self, key: str, place: Workplace, outcome: Outcome) -> str:
        if self.settings_file is not None:
            file, form = self.settings_file, form_of(self.settings_file) or "ini"
        else:
            general = place.site.needed(place.site.model.settings, "settings")
            file, form = general.file, general.format
        shown = str(self.value).lower() if isinstance(self.value, bool) else str(self.value)
        try:
            place.site.change_settings(file, form, {key: shown})
        except KeyError:
            raise StepFailed(f"the settings file {file} has no '{key}'") from None
        outcome.touches = (*outcome.touches, file)
        return f"{key} is {shown}"

"""What several kinds of steps do: settings in the database, switching extensions, taking one out."""

from __future__ import annotations

from keenharbor.site.edits import installed_packages
from keenharbor.site.model import SettingsTablePart
from keenharbor.site.view import SiteView
from keenharbor.trial.steps.base import Outcome, StepFailed, Workplace, output_of


def settings_table(site: SiteView) -> SettingsTablePart | None:
    """The table in which the site keeps settings, if it has one."""
    return site.model.settings.table if site.model.settings is not None else None


def settings_in_database(site: SiteView) -> dict[str, str]:
    """The settings that the site keeps in its database."""
    from keenharbor.compare.state import settings_of  # late: a plan is shown without what compares

    with site.reading_database() as state:
        return settings_of(state, site.model)


def write_setting(place: Workplace, name: str, text: str) -> None:
    """Set one of them."""
    part = settings_table(place.site)
    assert part is not None
    with place.site.writing_database() as writer:
        writer.update(part.table, {part.name: name}, {part.value: text})


def switch(place: Workplace, name: str, on: bool, limit: float) -> str:
    """Switch an extension on or off by the system's own command."""
    commands = place.site.model.commands
    command = commands.switch_on if on else commands.switch_off
    if command is None:
        raise StepFailed(f"the site file has no [commands] switch_{'on' if on else 'off'}")
    return output_of(place.run(command, limit, name=name), limit)


def uninstall(place: Workplace, name: str, outcome: Outcome, limit: float) -> str:
    """Switch an extension off and remove its files."""
    installed = next((p for p in installed_packages(place.site) if p.name == name), None)
    if installed is None or installed.kind == "core":
        raise StepFailed(f"there is no extension '{name}' to remove")
    if place.site.is_distribution(name):
        raise StepFailed(f"'{name}' is a distribution: 'removes' in a step of the kind 'distributions' takes it out")
    output = switch(place, name, False, limit)
    for file in installed.files:
        place.site.tree.remove(file)
    if not installed.files:
        place.site.tree.clear(installed.folder, keep=False)
    outcome.touches = (*outcome.touches, *(installed.files or (installed.folder,)))
    return output

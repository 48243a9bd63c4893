"""The plan: ordered steps in ``upgrade.toml``."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any, Literal

from blake3 import blake3
from pydantic import Field

from keenharbor.base.errors import UsageError
from keenharbor.database import Carried
from keenharbor.site.model import Part, Text
from keenharbor.site.toml import read_toml, validated

PLAN_FILE_NAME = "upgrade.toml"
Name = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]*$", max_length=80)]


class CarriesPart(Part):
    """Rows that a step moves from a ``table`` into another one (``to``), or into columns that are called otherwise: ``columns``
    says for each such column how it was called before. That they are all there is proven, not taken for a loss."""

    table: Text
    to: Text | None = None
    columns: dict[str, Text] = {}

    @property
    def carried(self) -> Carried:
        return Carried(self.table, self.to or self.table, self.columns)


class StepBase(Part):
    """What every step has. ``expects`` are paths that it may touch beyond what its kind is known to touch, ``carries`` the tables
    that it moves; with ``save`` the cutover takes a snapshot before it (a trial has a checkpoint around every step)."""

    name: Name
    time_limit: Annotated[float, Field(gt=0, le=86_400)] = 120
    retries: Annotated[int, Field(ge=0, le=20)] = 0
    retry_pause: Annotated[float, Field(ge=0, le=3600)] = 1
    expects: list[Text] = []
    save: bool = False
    carries: list[CarriesPart] = []


class PackageStep(StepBase):
    """Install or update a package. With ``replaces`` the other extension is switched off and its files removed.

    ``keep_settings`` are put back as they were (``name`` or ``name.key``); ``migrate`` runs the system's own
    migration for it.
    """

    kind: Literal["package"]
    package: Text
    version: Text
    replaces: str | None = None
    carry_local_edits: bool = False
    remove_dropped: bool = False
    keep_settings: list[Text] = []
    migrate: bool = True


class RemoveStep(StepBase):
    """Remove paths (patterns) from the site's folder; ``uninstall`` also switches an extension off and removes it."""

    kind: Literal["remove"]
    paths: list[Text] = []
    uninstall: str | None = None


class CommandStep(StepBase):
    """Run a command in the site's folder; good when it ends with one of ``success`` and prints ``text``."""

    kind: Literal["command"]
    command: Annotated[list[Text], Field(min_length=1)]
    success: list[int] = [0]
    text: str | None = None


class RequestStep(StepBase):
    """Ask for a page, or submit ``form`` fields to it; good with that status and text."""

    kind: Literal["request"]
    path: Annotated[str, Field(pattern="^/")]
    form: dict[str, str] | None = None
    status: int = 200
    text: str | None = None


class SqlStep(StepBase):
    """Run SQL in one transaction."""

    kind: Literal["sql"]
    sql: Text


class SettingStep(StepBase):
    """Set a key of the settings file (``file``: ``section.key``; of another one: ``settings_file``) or a setting in the
    database (``database``: name, ``key``: what stands within it, dotted)."""

    kind: Literal["setting"]
    file: str | None = None
    settings_file: str | None = None
    database: str | None = None
    key: str | None = None
    value: str | int | float | bool


class CellStep(StepBase):
    """Set the ``column`` of the rows of a ``table`` whose cells are as in ``where``; ``key``: what stands within the cell."""

    kind: Literal["cell"]
    table: Text
    where: Annotated[dict[str, str | int], Field(min_length=1)]
    column: Text
    key: str | None = None
    value: str | int | float | bool


class ExtensionStep(StepBase):
    """Switch an extension on or off."""

    kind: Literal["extension"]
    extension: Text
    on: bool


class RuntimeStep(StepBase):
    """Let the site run with another version of its runtime."""

    kind: Literal["runtime"]
    version: Text


class PurgeStep(StepBase):
    """Empty the site's caches."""

    kind: Literal["purge-cache"]


class DistributionsStep(StepBase):
    """Let the installer of the site's virtual environment put distributions in place (``wants``: ``name==version``) and take
    others out (``removes``). A clone has an environment of its own; on live it is done beside, and put in place whole."""

    kind: Literal["distributions"]
    wants: list[Annotated[str, Field(pattern=r"^[A-Za-z0-9][\w.-]*(==[\w.!+-]+)?$")]] = []
    removes: list[Annotated[str, Field(pattern=r"^[A-Za-z0-9][\w.-]*$")]] = []


class WaitStep(StepBase):
    """Wait for a person: ``say`` tells what to do. It counts as done when they say so; without a terminal it fails.
    How long they take is not limited."""

    kind: Literal["wait"]
    say: Text


class RestartStep(StepBase):
    """Let the site's host take up changed files."""

    kind: Literal["restart"]


class CheckStep(StepBase):
    """Make scripted visits of the site file (``only`` these, or all); good when none fails that did not fail before. On live
    those that write are left out."""

    kind: Literal["check"]
    only: list[Text] = []


Step = Annotated[
    PackageStep
    | RemoveStep
    | CommandStep
    | RequestStep
    | SqlStep
    | SettingStep
    | CellStep
    | DistributionsStep
    | WaitStep
    | RestartStep
    | CheckStep
    | ExtensionStep
    | RuntimeStep
    | PurgeStep,
    Field(discriminator="kind"),
]


class PlanPart(Part):
    """What the plan is for."""

    site: Text
    core: Text
    runtime: Text
    drafted: str = ""


class Plan(Part):
    """The whole plan."""

    format: Literal[1]
    plan: PlanPart
    step: Annotated[list[Step], Field(min_length=1)]

    @property
    def digest(self) -> str:
        """Tells whether two plans are the same, whatever their comments say."""
        return blake3(json.dumps(self.model_dump(mode="json"), sort_keys=True).encode()).hexdigest()[:16]

    @property
    def carried(self) -> list[Carried]:
        """All tables that its steps move."""
        return [c.carried for s in self.step for c in s.carries]


def read_plan(file: Path) -> Plan:
    """The plan in ``file``. Raises `UsageError` with file and line."""
    if not file.exists():
        raise UsageError(
            "there is no plan here", where=file, advice="'keenharbor plan draft --core VERSION' writes one"
        )
    plan = validated(Plan, read_toml(file, "plan"), file, "plan")
    names: set[str] = set()
    for step in plan.step:
        if step.name in names:
            raise UsageError(f"two steps of the plan are named '{step.name}'", where=file)
        names.add(step.name)
    return plan


def step_facts(step: Any) -> str:
    """A step in one line, for people."""
    match step:
        case PackageStep():
            extra = [
                *([f"in place of {step.replaces}"] if step.replaces else []),
                *(["carrying local edits"] if step.carry_local_edits else []),
                *(["removing dropped files"] if step.remove_dropped else []),
                *(["keeping " + ", ".join(step.keep_settings)] if step.keep_settings else []),
                *([f"up to {step.retries + 1} tries"] if step.retries else []),
            ]
            return f"install {step.package} {step.version}" + (f" ({'; '.join(extra)})" if extra else "")
        case RemoveStep():
            what = [*([step.uninstall] if step.uninstall else []), *step.paths]
            return "remove " + ", ".join(what)
        case CommandStep():
            return "run " + " ".join(step.command)
        case RequestStep():
            return f"{'submit' if step.form is not None else 'ask for'} {step.path}"
        case SqlStep():
            return "run SQL: " + " ".join(step.sql.split())[:60]
        case SettingStep():
            return f"set {step.file or step.database}{'.' + step.key if step.key else ''} to {step.value}"
        case CellStep():
            rows = ", ".join(f"{c} = {v}" for c, v in step.where.items())
            return f"set {step.table}.{step.column}{'.' + step.key if step.key else ''} to {step.value} where {rows}"
        case DistributionsStep():
            out = [f"take out {', '.join(step.removes)}"] if step.removes else []
            return "; ".join([*([f"install {', '.join(step.wants)}"] if step.wants else []), *out]) or "nothing"
        case WaitStep():
            return f"by hand: {step.say}"
        case RestartStep():
            return "let the host take up the change"
        case CheckStep():
            return "make the checks " + ", ".join(step.only) if step.only else "make the site file's checks"
        case ExtensionStep():
            return f"switch {step.extension} {'on' if step.on else 'off'}"
        case RuntimeStep():
            return f"switch the runtime to {step.version}"
        case _:
            return "purge the page cache"

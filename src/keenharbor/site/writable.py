"""A site that may be changed. Made in two places alone: for a clone (`keenharbor.clone`), and for live by the guard
that surrounds every change of it (`keenharbor.live.guard`)."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence
from pathlib import Path

from keenharbor.database import DatabasePlace, DatabaseState, DatabaseWriter, open_database
from keenharbor.database.prepared import holding
from keenharbor.host import Files, Host, ReadPath
from keenharbor.host.programs import Ran
from keenharbor.site.model import RuntimePart, SiteFile
from keenharbor.site.settings import SettingsForm, with_values
from keenharbor.site.view import SiteView, reached


class Writable(SiteView):
    """A site with its files and database to be written, and its commands to be run."""

    def __init__(
        self, model: SiteFile, site_file: Path, root: str, database: DatabasePlace, work: Path, store: Path,
        host: Host | None = None,
    ) -> None:  # fmt: skip
        super().__init__(model, site_file, root, database, work, store, host)
        self.tree: Files = self.host.writing(root)
        self.files = self.tree
        self.database_place = database

    @classmethod
    def of(
        cls, view: SiteView, root: str, database: DatabasePlace, runtime: RuntimePart | None = None,
        host: Host | None = None,
    ) -> Writable:  # fmt: skip
        """The site of ``view`` as it stands at ``root``, with another ``runtime``, on another ``host``, where it has
        one of its own."""
        model = view.model if runtime is None else view.model.model_copy(update={"runtime": runtime})
        return cls(model, view.site_file, root, database, view.work, view.store_folder, host or view.host)

    def named(self, path: str) -> ReadPath:
        """What is to be written is never looked for through links that lead out of the tree."""
        return self.path(path)

    def writing_database(self) -> contextlib.AbstractContextManager[DatabaseWriter]:
        """One transaction."""
        return open_database(reached(self.host, self.database_place)).writing()

    def holding_database(
        self, state: DatabaseState, known: DatabaseState | None = None, file: Path | None = None
    ) -> contextlib.AbstractContextManager[DatabaseWriter]:
        """Make the database hold ``state``, and what is written in the block on top of it (see
        `keenharbor.database.prepared`)."""
        return holding(reached(self.host, self.database_place), state, known, file)

    def put_code(self, path: str, content: bytes, mode: int | None = None) -> None:
        """Write a file of a release; one that carries the site's maintenance gate gets it again."""
        gate = self.gate
        self.tree.write(path, gate.put_into(path, content) if gate is not None else content, mode)

    def change_settings(self, path: str, form: SettingsForm, values: Mapping[str, str]) -> None:
        """Set ``values`` by key in a settings file, in the file that a link within the tree leads to; all else of it
        stays as it is. Raises `KeyError` for a key that is not in it."""
        file = self.named(path)
        text = with_values(file.exact_text(), values, form, file)
        self.tree.write(self.tree.leads_to(path), text.encode("utf-8", "surrogateescape"))

    def run(
        self, command: Sequence[str], time_limit: float, *, prefix: Sequence[str] = (),
        variables: Mapping[str, str] | None = None, keep_open: Sequence[int] = (), **places: str,
    ) -> Ran:  # fmt: skip
        """Run a command of the site file or plan in the site's folder with the runtime that the site selects."""
        filled = fill_places(command, {"runtime": self.launcher(), "root": self.place, **places})
        return self.host.programs.run(
            [*prefix, *filled], folder=self.place, time_limit=time_limit,
            environment=self.host.programs.variables() if variables is None else variables, keep_open=keep_open,
        )  # fmt: skip


def fill_places(command: Sequence[str], places: Mapping[str, str]) -> list[str]:
    """A command with its {places} filled."""
    done = []
    for word in command:
        for name, value in places.items():
            word = word.replace("{" + name + "}", value)
        done.append(word)
    return done

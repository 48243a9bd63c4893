"""A clone on which steps are carried out and looked at."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Sequence

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.progress import Progress, Silent
from keenharbor.base.text import size
from keenharbor.clone.clone import Clone
from keenharbor.clone.mailbox import Mailbox, Message, kept_in
from keenharbor.compare import Look, Noise, Visitor, take_look
from keenharbor.compare.look import CheckSeen, Far, check_again, make_checks, member_cookies
from keenharbor.host.programs import Ran
from keenharbor.site.feed import Feed
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, TakeOptions, take_snapshot
from keenharbor.store import Store
from keenharbor.trial.steps import DistributionsStep, Outcome, StepBase, Workplace, perform

Ask = Callable[[str], None]


class Stage:
    """A clone, its mail box, and the feed from which steps take packages. ``ask`` shows a person what to do."""

    def __init__(
        self, live: SiteView, clone: Clone, mailbox: Mailbox, feed: Feed, ask: Ask | None = None,
        progress: Progress | None = None,
    ) -> None:  # fmt: skip
        self._progress = progress
        self.live, self.clone, self.mailbox, self.feed, self.ask = live, clone, mailbox, feed, ask

    def _mail_to(self) -> list[str]:
        return [a for m in self.mails() for a in m.to]

    def mails(self) -> list[Message]:
        """All mail that the clone has sent so far: to the mail server, or to the program for sending it."""
        return [*self.mailbox.messages, *kept_in(self.clone.outbox)]

    def look(
        self, also: Sequence[str] = (), *, samples: int, noise: Noise | None = None, learn: bool = False,
        only: Collection[str] | None = None, checks: bool = True, timed: bool = True,
        far: Far | None = None, new_to: Look | None = None,
    ) -> Look:  # fmt: skip
        """A look at the clone; ``only`` at these pages where it is given, and at what they lead to that is ``new_to``
        an earlier look. Raises nothing for what the site does wrong."""
        model = self.live.model
        with Visitor(self.clone.address) as visitor:
            return take_look(
                visitor, model.look, also=also, samples=samples, learn=learn, noise=noise, log_in=model.log_in,
                checks=model.check if checks else (), mail_to=self._mail_to, timed=timed, far=far,
                only=None if only is None else list(only), new_to=new_to, progress=self._progress,
            )  # fmt: skip

    def member_cookies(self) -> dict[str, str]:
        """What a member of the clone is known by; nothing where nobody can log in."""
        log_in = self.live.model.log_in
        if log_in is None:
            return {}
        with Visitor(self.clone.address) as visitor:
            return member_cookies(visitor, log_in, self._mail_to)

    def make_checks(self) -> None:
        """Make the scripted visits, whatever comes of them."""
        with Visitor(self.clone.address) as visitor:
            make_checks(visitor, self.live.model.check, self._mail_to)

    def carry_out(self, step: StepBase, before: dict[str, CheckSeen]) -> Outcome:
        """A step of the plan; ``before`` are the scripted visits as they went on the unchanged clone."""

        def check(only: Sequence[str]) -> str | None:
            with Visitor(self.clone.address) as visitor:
                return check_again(visitor, self.live.model.check, only, before, self._mail_to)

        def show(say: str) -> None:
            assert self.ask is not None
            self.ask(f"{say}\nThe clone answers at {self.clone.address}")

        place = Workplace(
            self.clone.site, self.feed, self.clone.address, check=check, ask=show if self.ask is not None else None,
            install=self._install if self.clone.facts.environment is not None else None,
            prefix=self.clone.prefix, variables=self.clone.variables,
        )  # fmt: skip
        with self.clone.watched() as watch:
            outcome = perform(step, place)
        if watch.over is not None:
            limits = self.clone.limits
            told = {
                "disk": f"they added more than {size(limits.disk)} to the disk",
                "memory": f"they held more than {size(limits.memory)} of memory",
            }
            outcome.problem = f"its programs were ended: {told[watch.over]}"
        return outcome

    def _install(self, wants: Sequence[str], removes: Sequence[str], time_limit: float) -> Ran:
        clone = self.clone
        assert clone.facts.environment is not None
        return self.clone.site.host.environments.install(
            clone.facts.environment, wants, removes, self.live.wheelhouse(), time_limit, clone.variables,
            clone.installer_prefix,
        )  # fmt: skip

    def install_again(self, steps: Sequence[object]) -> None:
        """What earlier steps put into the environment, for a clone whose files are those of after them. Raises
        `KeenHarborError` when it cannot be."""
        for step in steps:
            if isinstance(step, DistributionsStep) and self.clone.facts.environment is not None:
                ran = self._install(step.wants, step.removes, step.time_limit)
                if ran.code != 0:
                    raise KeenHarborError(
                        f"what step '{step.name}' installed cannot be installed again", where=ran.command
                    )

    def checkpoint(self, store: Store, label: str, earlier: Snapshot | None) -> Snapshot:
        """The clone as it is now; only what changed since ``earlier`` is read and kept."""
        options = TakeOptions(label=label, reason="checkpoint", every_row=True)
        return take_snapshot(self.clone.site, store, options, Silent(), earlier)

    def log_lines(self) -> set[str]:
        """The lines of the clone's logs, without their numbers."""
        lines: set[str] = set()
        for path, entry in self.clone.site.scan().entries.items():
            if entry.area == "logs" and entry.kind == "file":
                text = self.clone.site.path(path).read_text(errors="replace")
                lines |= {re.sub(r"\d+", "#", line).lstrip("# :,.TZ-") for line in text.splitlines() if line.strip()}
        return lines

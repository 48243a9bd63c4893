"""Trying on a clone what writes: forms by which visitors send something, before a check is made of them."""

from __future__ import annotations

from collections.abc import Sequence

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.progress import Progress
from keenharbor.clone.mailbox import Mailbox, kept_in
from keenharbor.clone.making import make_clone
from keenharbor.compare import Visitor
from keenharbor.compare.proposals import Tried, try_writing
from keenharbor.site.model import CheckPart
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot


def try_on_a_clone(site: SiteView, snapshot: Snapshot, checks: Sequence[CheckPart], progress: Progress) -> list[Tried]:
    """Make each visit on a clone of ``snapshot``, which is dropped. A clone that does not start is said of each."""
    progress.stage("trying forms on a clone")
    with Mailbox() as mailbox:
        clone = make_clone(site, snapshot, "trying forms", mail_port=mailbox.port)
        try:
            with clone, Visitor(clone.address) as visitor:

                def mail_to() -> list[str]:
                    return [a for m in (*mailbox.messages, *kept_in(clone.outbox)) for a in m.to]

                return [try_writing(visitor, check, mail_to) for check in checks]
        except KeenHarborError as error:
            return [Tried(check, error.what) for check in checks]
        finally:
            clone.drop()

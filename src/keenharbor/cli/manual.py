"""``manual``"""

from __future__ import annotations

from pathlib import Path

import click
from rich.console import Console
from rich.markdown import Markdown
from rich.text import Text
from rich.theme import Theme

from keenharbor.base.errors import UsageError
from keenharbor.cli.base import Session, harbor_command

_INSIDE = Path(__file__).resolve().parents[1] / "manual"
_IN_A_CHECKOUT = Path(__file__).resolve().parents[3] / "docs"
TOPICS = {
    "guide": "Five minutes on your own site.",
    "trouble": "What it says, and what to do.",
    "init": "How a site is worked out.",
    "site-file": "Site file, platform file, plan.",
    "snapshots": "Taking, proving, keeping, giving back.",
    "places": "Second places: sealed, sent, fetched back.",
    "tend": "What is done by itself, and who is told.",
    "elsewhere": "Sites on other machines, and moving house.",
    "trials": "Rehearsals and what they tell.",
    "feed": "The feed of releases.",
    "demo": "The example that is played.",
    "commands": "Every command and option.",
    "steps": "Every kind of step of a plan.",
    "keys": "Every key of the site file.",
}
_PLAIN = {"markdown.code": "bold", "markdown.h1": "bold", "markdown.h2": "bold", "markdown.h3": "bold"}
SCHEMAS = ("site-file.schema", "plan.schema", "feed.schema", "trial.schema")


def page_of(topic: str) -> Path:
    """The file of a topic. Raises `UsageError` where there is no such one."""
    name = f"{topic}.json" if topic in SCHEMAS else f"{topic}.md"
    for folder in (_INSIDE, _INSIDE / "reference", _IN_A_CHECKOUT, _IN_A_CHECKOUT / "reference"):
        if (topic in TOPICS or topic in SCHEMAS) and (folder / name).is_file():
            return folder / name
    raise UsageError(f"the manual has no topic '{topic}'", advice=f"topics: {', '.join((*TOPICS, *SCHEMAS))}")


@harbor_command(name="manual", site=False)
@click.argument("topic", required=False)
def manual(session: Session, topic: str | None) -> None:
    """Read the manual: a TOPIC, or the list of topics. JSON Schemas for editors are topics, too."""
    if topic is None:
        session.show(TOPICS, _render_topics)
        return
    text = page_of(topic).read_text(encoding="utf-8")
    if topic in SCHEMAS and not session.as_json:
        click.echo(text, nl=False)
        return
    session.show({"topic": topic, "text": text}, lambda out: _render(out, text))


def _render(out: Console, text: str) -> None:
    with out.use_theme(Theme(_PLAIN)):
        out.print(Markdown(text, code_theme="ansi_dark"))


def _render_topics(out: Console) -> None:
    for name, told in TOPICS.items():
        out.print(Text(f"{name:12}", style="bold"), Text(told))
    out.print(Text(f"\nfor editors: {', '.join(SCHEMAS)}", style="dim"))

"""Writes docs/reference/: each command, each kind of step, each key of the site file, from what reads them; the JSON
Schemas of site file and plan; and docs/man/."""

from __future__ import annotations

import inspect
import json
import re
from pathlib import Path
from typing import Any, Literal

import click
from pydantic import BaseModel
from pydantic_core import PydanticUndefined

from keenharbor.cli.main import cli
from keenharbor.site.model import SiteFile
from keenharbor.trial.plan import Plan
from keenharbor.trial.steps import KINDS, StepBase

HERE = Path(__file__).parent
WIDE = 118


def _commands(group: click.Group, words: tuple[str, ...]) -> dict[str, click.Command]:
    found: dict[str, click.Command] = {}
    context = click.Context(group)
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        if isinstance(command, click.Group):
            found |= _commands(command, (*words, name))
        elif command is not None:
            found[" ".join((*words, name))] = command
    return found


def commands_text() -> str:
    """Every command with its arguments and options."""
    parts = ["# Commands\n", "Made by `docs/make_reference.py`.\n"]
    for name, command in _commands(cli, ()).items():
        context = click.Context(command, info_name=f"keenharbor {name}")
        parts.append(f"## keenharbor {name}\n")
        usage = " ".join(command.collect_usage_pieces(context))
        parts.append(f"    keenharbor {name} {usage}\n")
        help_text = inspect.cleandoc(command.help or "").replace("\b\n", "")
        parts.append(help_text + "\n")
        for parameter in command.params:
            record = parameter.get_help_record(context)
            if record is not None:
                shown, told = record
                parts.append(f"- `{shown}`: {told}" if told else f"- `{shown}`")
        parts.append("")
    return _wrapped(parts)


def man_pages() -> dict[str, str]:
    """Manual pages by file name, in the macros of man(7): one of the program, one for each command or group."""
    context = click.Context(cli)
    pages, listed = {}, []
    for name in cli.list_commands(context):
        command = cli.get_command(context, name)
        assert command is not None
        listed.append((f"keenharbor {name}", command.get_short_help_str(200)))
        inner = _commands(command, (name,)) if isinstance(command, click.Group) else {name: command}
        parts = [_man_head(f"keenharbor-{name}", command.get_short_help_str(200)), ".SH SYNOPSIS\n"]
        for words, one in inner.items():
            usage = " ".join(one.collect_usage_pieces(click.Context(one, info_name=words)))
            parts.append(f".B {_roff(f'keenharbor {words}')}\n{_roff(usage)}\n.br\n")
        for words, one in inner.items():
            parts += [f".SH {_roff(words.upper())}\n", _man_text(one.help), *_man_options(one)]
        parts.append(".SH SEE ALSO\n.BR keenharbor (1),\n.B keenharbor manual\n")
        pages[f"keenharbor-{name}.1"] = "".join(parts)
    shown = "".join(f".TP\n.B {_roff(words)}\n{_roff(told)}\n" for words, told in listed)
    head = _man_head("keenharbor", (cli.help or "").split("\n")[0])
    pages["keenharbor.1"] = (
        f"{head}.SH SYNOPSIS\n.B keenharbor\nCOMMAND [OPTIONS] [ARGUMENTS]\n.SH DESCRIPTION\n{_man_text(cli.help)}"
        f".SH COMMANDS\n{shown}.SH SEE ALSO\n.B keenharbor manual\nshows the guide, and how each message is met.\n"
    )
    return pages


def _man_head(name: str, told: str) -> str:
    return f'.TH {name.upper()} 1 "" "Keen Harbor"\n.SH NAME\n{_roff(name)} \\- {_roff(told)}\n'


def _man_text(text: str | None) -> str:
    paragraphs = re.split(r"\n\s*\n", inspect.cleandoc(text or "").replace("\b\n", ""))
    return "".join(f".PP\n{_roff(p)}\n" for p in paragraphs)


def _man_options(command: click.Command) -> list[str]:
    records = (p.get_help_record(click.Context(command)) for p in command.params)
    return [f".TP\n.B {_roff(r[0])}\n{_roff(r[1])}\n" for r in records if r is not None]


def _roff(text: str) -> str:
    """Text as roff has it: no line that would be read as a command, dashes as they are typed."""
    lines = text.replace("\\", "\\e").replace("-", "\\-").splitlines()
    return "\n".join(f"\\&{line}" if line[:1] in (".", "'") else line for line in lines)


def steps_text() -> str:
    """Every kind of step with its keys."""
    parts = ["# Kinds of steps\n", "Made by `docs/make_reference.py`.\n", "## Every step\n", _doc(StepBase)]
    parts += [*_fields(StepBase), ""]
    for kind in KINDS:
        (name,) = kind.model_fields["kind"].annotation.__args__  # type: ignore[union-attr]
        parts += [f"## {name}\n", _doc(kind), *_fields(kind, set(StepBase.model_fields) | {"kind"}), ""]
    return _wrapped(parts)


def keys_text() -> str:
    """Every table of the site file with its keys."""
    parts = ["# Keys of the site file\n", "Made by `docs/make_reference.py`.\n"]
    seen: set[str] = set()

    def table(path: str, model: type[BaseModel], many: bool) -> None:
        if path in seen or path.count(".") > 2:
            return
        seen.add(path)
        parts.extend([f"## {f'[[{path}]]' if many else f'[{path}]'}\n" if path else "## At the top\n", _doc(model)])
        parts.extend([*_fields(model), ""])
        for name, field in model.model_fields.items():
            for inner, several in _models(field.annotation):
                table(f"{path}.{name}".strip("."), inner, several)

    table("", SiteFile, False)
    return _wrapped(parts)


def _models(annotation: Any, several: bool = False) -> list[tuple[type[BaseModel], bool]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [(annotation, several)]
    of_list = getattr(annotation, "__origin__", None) is list
    return [m for a in getattr(annotation, "__args__", ()) for m in _models(a, several or of_list)]


def _doc(model: type[BaseModel]) -> str:
    return inspect.cleandoc(model.__doc__ or "").replace("``", "`") + "\n"


def _fields(model: type[BaseModel], but: set[str] | None = None) -> list[str]:
    lines = []
    for name, field in model.model_fields.items():
        if name in (but or ()) or _models(field.annotation):
            continue
        kind = _shown(field.annotation)
        default = field.get_default(call_default_factory=True)
        needed = default is PydanticUndefined
        said = (
            "needed"
            if needed
            else f"default `{json.dumps(default, default=str)}`"
            if default is not None
            else "no default"
        )
        told = f": {field.description}" if field.description else ""
        lines.append(f"- `{name}` ({kind}; {said}){told}")
    return lines


def _shown(annotation: Any) -> str:
    """A type in words."""
    origin, arguments = getattr(annotation, "__origin__", None), getattr(annotation, "__args__", ())
    if origin is Literal:
        return "one of " + ", ".join(f"`{a}`" for a in arguments)
    if origin in (list, tuple):
        return f"list of {_shown(arguments[0])}"
    if origin is dict:
        return f"table of {_shown(arguments[1])}"
    if arguments:
        return " or ".join(_shown(a) for a in arguments if a is not type(None))
    return {"str": "text", "int": "number", "float": "number", "bool": "true or false"}.get(
        getattr(annotation, "__name__", ""), getattr(annotation, "__name__", str(annotation))
    )


def _wrapped(parts: list[str]) -> str:
    """Lines of at most 120 characters; what is indented or a list item keeps its shape."""
    import textwrap

    out: list[str] = []
    for line in "\n".join(parts).splitlines():
        if len(line) <= WIDE:
            out.append(line.rstrip())
            continue
        indent = re.match(r"(\s*)(- )?", line)
        assert indent is not None
        more = " " * len(indent[0]) if indent[2] else indent[1] + ("    " if indent[1] else "")
        out += textwrap.wrap(
            line.strip() if indent[2] is None else line, WIDE, initial_indent=indent[1] if indent[2] is None else "",
            subsequent_indent=more, break_long_words=False, break_on_hyphens=False,
        )  # fmt: skip
    return "\n".join(out).rstrip() + "\n"


def files() -> dict[Path, str]:
    """What is written where."""
    schemas = {"site-file": SiteFile.model_json_schema(), "plan": Plan.model_json_schema()}
    return {
        HERE / "reference/commands.md": commands_text(), HERE / "reference/steps.md": steps_text(),
        HERE / "reference/keys.md": keys_text(),
        **{HERE / "man" / name: text for name, text in man_pages().items()},
        **{HERE / f"{n}.schema.json": json.dumps(s, indent=1, ensure_ascii=False) + "\n" for n, s in schemas.items()},
    }  # fmt: skip


if __name__ == "__main__":
    for folder in ("reference", "man"):
        (HERE / folder).mkdir(exist_ok=True)
    for file, text in files().items():
        file.write_text(text, encoding="utf-8")

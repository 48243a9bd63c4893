"""The face: help, output for people and for programs, exit codes, errors."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

import click
import pytest

from conftest import PROGRAM, environment, harbor
from keenharbor import __version__
from keenharbor.cli.main import COMMANDS, cli
from keenharbor.cli.terminal import PASSING, SafeConsole, say, say_json
from keenharbor.demo.scene import Scene

ROOT = Path(__file__).parents[1]


def every_command() -> list[tuple[str, ...]]:
    found: list[tuple[str, ...]] = []
    context = click.Context(cli)
    for name in COMMANDS:
        command = cli.get_command(context, name)
        assert command is not None
        found += [(name, sub) for sub in command.commands] if isinstance(command, click.Group) else [(name,)]
    return found


@pytest.mark.parametrize("words", every_command(), ids=" ".join)
def test_every_command_has_help_and_options_that_say_what_they_do(words: tuple[str, ...]) -> None:
    context: click.Context = click.Context(cli)
    command: click.Command = cli
    for word in words:
        assert isinstance(command, click.Group)
        found = command.get_command(context, word)
        assert found is not None
        command = found
    assert command.help and len(command.help) > 20
    for parameter in command.params:
        if isinstance(parameter, click.Option):
            assert parameter.help, f"{words}: {parameter.name}"
    assert any(p.name == "as_json" for p in command.params)


def test_help_lists_every_command_and_the_exit_codes(tmp_path: Path) -> None:
    text = harbor(tmp_path, "--help").out
    for name, (_, summary) in COMMANDS.items():
        assert re.search(rf"^  {name} ", text, re.MULTILINE), name
        assert summary.split()[0] in text
    assert "5 interrupted: settle it" in " ".join(text.split())
    assert max(map(len, text.splitlines())) <= 80
    assert harbor(tmp_path, "--version").out == f"keenharbor {__version__}\n"


def test_help_loads_nothing_heavy() -> None:
    script = (
        "import sys; sys.argv = ['keenharbor', '--help']\nfrom keenharbor.cli.main import main\ntry: main()\nexcept "
        "SystemExit: pass\n"
    )
    script += (
        "print(sorted(m for m in sys.modules if m.split('.')[0] in {'rich', 'pydantic', 'numpy', 'scipy', 'jinja2', "
        "'zstandard'}))"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("serve",), "No such command 'serve'"),
        (("ready", "--nonsense"), "No such option"),
        (("compare", "live"), "Missing argument 'RIGHT'"),
        (("clone", "make", "--port", "99999"), "99999"),
        (("log", "--last", "0"), "0 is not in the range"),
        (("survey", "--site", "nowhere.toml"), "there is no site file here"),
    ],
)
def test_wrong_usage_is_exit_code_2_with_one_document_on_demand(
    tmp_path: Path, words: tuple[str, ...], said: str
) -> None:
    ran = harbor(tmp_path, *words, code=2)
    assert said in ran.err
    assert ran.out == ""
    told = harbor(tmp_path, *words, "--json", code=2)
    document = json.loads(told.out)
    assert list(document) == ["error"]
    assert document["error"]["exit_code"] == 2
    assert list(tmp_path.iterdir()) == []


def test_an_error_says_what_where_and_what_next(tmp_path: Path) -> None:
    lines = harbor(tmp_path, "survey", code=2).err.splitlines()
    assert lines[0] == "✗ there is no site file here"
    assert lines[1].strip() == f"where:  {tmp_path}/keenharbor.toml"
    assert lines[2].strip().startswith("next:   'keenharbor init' writes one")


def test_the_program_as_a_shell_starts_it(tmp_path: Path) -> None:
    """What the tests run warm is the same cold."""
    from conftest import cold, warm

    for words in (["--version"], ["--help"], ["survey"], ["survey", "--json"], ["plan", "show"], ["nonsense"]):
        assert cold(tmp_path, words, environment()) == warm().run(tmp_path, words, environment()), words


def test_debug_shows_the_whole_story(tmp_path: Path) -> None:
    done = subprocess.run(
        [*PROGRAM, "survey", "--debug"], cwd=tmp_path, capture_output=True, text=True, env=environment(), check=False
    )
    assert done.returncode == 2
    assert "Traceback" in done.stderr


def test_json_is_one_document_and_nothing_else(shared_scene: Scene) -> None:
    harbor(shared_scene.folder, "snapshot", "take", "--json")
    for words in (("survey",), ("ready", "--core", "4.0"), ("snapshot", "list"), ("snapshot", "show"),
        ("snapshot", "verify"),
                  ("trial", "list"), ("clone", "list"), ("log",), ("settle",)):  # fmt: skip
        ran = harbor(shared_scene.folder, *words, "--json", code=None)
        json.loads(ran.out)
        assert "\x1b" not in ran.out
        assert ran.err == ""


@pytest.mark.parametrize("width", [80, 140])
def test_output_fits_the_width_and_has_no_colour_in_a_pipe(shared_scene: Scene, width: int) -> None:
    for words in (("survey",), ("ready", "--core", "4.0", "--runtime", "3"), ("log",)):
        ran = harbor(shared_scene.folder, *words, code=None, COLUMNS=str(width))
        assert "\x1b" not in ran.out
        assert max(map(len, ran.out.splitlines())) <= width


def test_verdicts_are_words_and_symbols_also_without_colour(shared_scene: Scene) -> None:
    text = harbor(shared_scene.folder, "ready", "--core", "4.0", code=1, NO_COLOR="1", FORCE_COLOR="1").out
    for shown in ("✗ BLOCKED", "! caution", "✓ clear"):
        assert shown in re.sub(r"\x1b\[[0-9;]*m", "", text)
    assert not re.search(r"\x1b\[(3|9)[0-7]m", text)


def test_a_trial_without_anything_to_show(shared_scene: Scene) -> None:
    assert "There was no trial yet" in harbor(shared_scene.folder, "trial", "list").out
    assert "there is no trial 'newest'" in harbor(shared_scene.folder, "trial", "show", code=2).err


def test_the_demo_refuses_a_folder_that_is_not_its_own(tmp_path: Path) -> None:
    (tmp_path / "precious").mkdir()
    (tmp_path / "precious/file").write_text("mine")
    ran = harbor(tmp_path, "demo", "--dir", "precious", code=2)
    assert "not empty" in ran.err
    assert (tmp_path / "precious/file").read_text() == "mine"


# -- documents ------------------------------------------------------------------------------------------------


def text_of(name: str) -> str:
    return (ROOT / name).read_text(encoding="utf-8")


def test_the_readme_shows_every_command_and_every_picture_is_linked() -> None:
    readme = text_of("README.md")
    for name in COMMANDS:
        assert f"keenharbor {name}" in readme, name
    pictures = sorted((ROOT / "docs/screenshots").glob("*.png"))
    assert 0 < len(pictures) < 20
    for picture in pictures:
        assert f"docs/screenshots/{picture.name}" in readme, picture.name
    assert "make demo" in readme and "make test" in readme


def test_the_documents_speak_of_what_is_there() -> None:
    architecture = text_of("docs/architecture.md")
    for folder in sorted((ROOT / "src/keenharbor").iterdir()):
        if folder.is_dir() and (folder / "__init__.py").exists():
            assert f"`{folder.name}/`" in architecture, folder.name
    for link in re.findall(r"\]\(([^)#]+)", text_of("README.md") + text_of("CONTRIBUTING.md")):
        if not link.startswith("http"):
            assert (ROOT / link).exists(), link
    assert f"## {__version__}" in text_of("CHANGELOG.md")


def test_the_demo_documents_every_planted_trouble() -> None:
    from test_story import PLANTED

    text = text_of("docs/demo.md")
    for kind, _, step in PLANTED.values():
        assert f"`{kind}`" in text, kind
        assert f"`{step}`" in text, step


_HEAVY = {"numpy", "scipy", "pandas", "matplotlib", "httpx", "PIL", "playwright"}
_OF_SITES = {"pydantic", "tomlkit", "sqlite3", "multiprocessing.connection", "importlib.metadata"}
_PARTS = {"keenharbor.clone", "keenharbor.compare", "keenharbor.live", "keenharbor.trial", "keenharbor.judge"}
_NOT_LOADED = {
    "log": _HEAVY | _OF_SITES | _PARTS | {"keenharbor.snapshot", "keenharbor.store", "keenharbor.database"},
    "snapshot list": _HEAVY | _OF_SITES | _PARTS | {"keenharbor.site.model"},
    "snapshot show": _HEAVY | _OF_SITES | _PARTS | {"keenharbor.site.model"},
    "snapshot keep newest": _HEAVY | {"keenharbor.clone", "keenharbor.compare"},
    "snapshot usage": _HEAVY | {"keenharbor.clone", "keenharbor.compare"},
    "survey --json": _HEAVY | {"keenharbor.clone", "keenharbor.compare.look", "keenharbor.trial"},
    "clone list": _HEAVY,
    "plan draft --help": _HEAVY,
}


@pytest.mark.parametrize("words", _NOT_LOADED)
def test_a_command_loads_only_what_it_uses(shared_scene: Scene, words: str) -> None:
    if not (shared_scene.folder / "harbor/store").exists():
        harbor(shared_scene.folder, "snapshot", "take")
    code = (
        "import sys; sys.argv = ['keenharbor', *sys.argv[1].split()]\n"
        "from keenharbor.cli.main import main\n"
        "try: main()\n"
        "except SystemExit as ended: assert not ended.code, ended.code\n"
        "print(*sys.modules, file=sys.stderr)\n"
    )
    ran = subprocess.run(
        [sys.executable, "-c", code, words], cwd=shared_scene.folder, capture_output=True, text=True, check=True,
        env=environment(),
    )  # fmt: skip
    assert _NOT_LOADED[words] & set(ran.stderr.split("\n")[-2].split()) == set()


def test_what_is_said_wipes_the_line_of_progress_that_stands_there(capsys: pytest.CaptureFixture[str]) -> None:
    for say_it, where in (
        (lambda: SafeConsole(file=sys.stderr).print("told"), "told"), (lambda: say("told"), "told"),
        (lambda: say_json("told"), ""),
    ):  # fmt: skip
        PASSING.show("    42 %  1.0 MiB/s")
        PASSING.show("    43 %")
        say_it()
        shown = capsys.readouterr().err
        before = shown[: shown.rindex(where)] if where else shown
        assert before.endswith("\r" + " " * len("    43 %") + "\r"), repr(shown)
        say("more")
        assert capsys.readouterr().err == "more\n"

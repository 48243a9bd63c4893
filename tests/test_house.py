"""The house as it is built: who may write, start programs, make a live site; how large modules and functions are; no
circles.

`python tests/test_house.py` prints the figures."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from functools import cache
from pathlib import Path

ROOT = Path(__file__).parents[1]
CODE = ROOT / "src/keenharbor"
LONGEST_MODULE, LONGEST_FUNCTION = 600, 60

# Who may start programs, write files, or remove them: the host, the store, and the durable writes. The stand-in system
# of the demo is a program of its own, and its scene is set by hand.
MAY_WRITE = ("host/", "store/", "base/durable.py", "base/chain.py", "demo/")
MODULES = {"subprocess", "shutil"}
OS_CALLS = {
    "remove", "unlink", "rename", "replace", "write", "pwrite", "open", "mkdir", "makedirs", "rmdir", "chmod", "chown",
    "link",
    "symlink", "truncate", "ftruncate", "utime", "fork", "system", "popen", "execv", "execvp", "kill", "killpg",
}  # fmt: skip
PATH_CALLS = {
    "write_text", "write_bytes", "unlink", "mkdir", "rmdir", "rename", "chmod", "touch", "symlink_to", "hardlink_to",
}  # fmt: skip
WRITING_MODES = set("wax+")

# What writes all the same, and why. Nothing may be added for a site's files.
EXCEPTIONS = {
    "snapshot/sealed.py": "the parts of an archive are written as a stream",
    "snapshot/export.py": "the same, into tar or zip",
    "snapshot/members.py": "an archive's members are read through the library's own open",
    "snapshot/importing.py": "the same",
    "database/mariadb/write.py": "rows go to the server through a pipe",
    "database/sqlite.py": "a database that is a file is dropped by removing it",
    "database/prepared.py": "the same of one that was made beforehand",
    "database/servers/postgres.py": "the folder of a private server gets its owner",
    "database/private_server.py": "the folder of a private server gets its owner, and the server its signals",
    "clone/relay.py": "a program of its own: a socket's path is made free",
    "clone/ties.py": "the text of the program for sending mail",
    "live/journal.py": "the journal is put away by a rename, and the steps' lock made anew",
    "live/settle.py": "what killed runs have left in the work folder is removed",
    "site/edits.py": "archives are read", "site/feed.py": "archives are read",
    "compare/camera.py": "a browser's tab is opened",
    "compare/look.py": "pictures are opened", "compare/pictures.py": "pictures are opened",
    "site/settings/php.py": "a text to be run by a reader of its own", "judge/syntax.py": "the same",
    "place/carriers/folder.py": "the objects of a place that is a folder",
    "place/carriers/webdav.py": "a collection is made there",
    "cli/demo.py": "finds its own program", "site/log.py": "", "live/guard.py": "", "cli/main.py": "signals",
}  # fmt: skip
MAKES_LIVE_WRITABLE = {"live/guard.py", "live/settle.py", "live/gate.py", "live/moving.py"}
MAKES_CLONES_WRITABLE = {"clone/clone.py", "clone/making.py"}

# `Any` stands only where something comes in whose make-up nobody but its maker knows.
ANY_MAY_STAND = {
    "documents: JSON, TOML and their kin": (
        "base/jsontext", "base/durable", "store/store", "snapshot/model", "snapshot/manifest", "snapshot/incoming",
        "snapshot/lists", "site/toml", "site/survey", "site/settings/nested", "site/indexfeed", "database/cells",
        "database/serialised", "database/lines", "database/rows", "database/protocol", "host/entries", "host/seal",
        "compare/findings", "compare/health", "trial/record", "trial/result", "live/restore", "live/cutover",
        "clone/facts",
        "cli/init", "clone/clone", "demo/packages", "demo/amend",
    ),
    "rows as a driver hands them over": ("database/postgres/", "database/mariadb/"),
    "what a library calls back with": (
        "judge/solving", "clone/mailbox", "compare/visitor", "cli/base", "cli/main", "cli/plan", "cli/ready",
        "snapshot/members", "snapshot/export",
    ),
    "work of any kind, shared out": ("store/apart", "store/writer"),
    "messages of a far machine, made sure of where they come in": ("host/far/", "host/sqlitefile"),
}  # fmt: skip
MOST_ANY = 138
MOST_ANY_FAR = 112


@cache
def modules() -> dict[str, ast.Module]:
    return {
        path.relative_to(CODE).as_posix(): ast.parse(path.read_text(encoding="utf-8"))
        for path in sorted(CODE.rglob("*.py"))
        if not any(own in path.relative_to(CODE).as_posix() for own in ("tansy/", "rescue/rescue.py"))
    }


def writes(tree: ast.Module) -> Iterator[tuple[int, str]]:
    """What in a module starts a program or may write, by line."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Import | ast.ImportFrom):
            names = [a.name for a in node.names] if isinstance(node, ast.Import) else [node.module or ""]
            for name in names:
                if name.partition(".")[0] in MODULES:
                    yield node.lineno, name
        if not isinstance(node, ast.Call):
            continue
        function = node.func
        if isinstance(function, ast.Attribute):
            owner = function.value.id if isinstance(function.value, ast.Name) else ""
            if owner == "os" and function.attr in OS_CALLS:
                yield node.lineno, f"os.{function.attr}"
            elif function.attr in PATH_CALLS or (function.attr == "open" and _mode(node, 0) & WRITING_MODES):
                yield node.lineno, f".{function.attr}"
        elif isinstance(function, ast.Name) and function.id == "open" and _mode(node, 1) & WRITING_MODES:
            yield node.lineno, "open"


def _mode(call: ast.Call, position: int) -> set[str]:
    given = [k.value for k in call.keywords if k.arg == "mode"] + list(call.args[position : position + 1])
    mode = next((g.value for g in given if isinstance(g, ast.Constant) and isinstance(g.value, str)), "r")
    return set(mode) if len(mode) <= 4 else set()


def test_nobody_but_the_host_and_the_store_writes_or_starts_programs() -> None:
    wrong = [
        f"{name}:{line} {what}"
        for name, tree in modules().items()
        if not name.startswith(MAY_WRITE) and name not in EXCEPTIONS
        for line, what in writes(tree)
    ]
    assert not wrong, wrong


def test_an_exception_is_for_no_program_and_is_still_wanted() -> None:
    for name, why in EXCEPTIONS.items():
        found = [what for _, what in writes(modules()[name])] if name in modules() else []
        assert not set(found) & {"subprocess"}, name
        assert why == "" or name in modules(), f"{name} is gone"


def test_a_site_that_can_be_written_to_is_made_in_two_places() -> None:
    made: dict[str, list[int]] = {}
    for name, tree in modules().items():
        for node in ast.walk(tree):
            if isinstance(node, ast.Call):
                text = ast.unparse(node.func)
                if text in ("Writable", "Writable.of", "live_database_place"):
                    made.setdefault(name, []).append(node.lineno)
    assert set(made) <= MAKES_LIVE_WRITABLE | MAKES_CLONES_WRITABLE, made


def test_a_site_view_has_no_method_that_writes() -> None:
    for name in ("site/view.py", "database/readonly.py", "host/reading.py", "host/paths.py"):
        tree = modules()[name]
        assert not [w for w in writes(tree) if w[1] != "os.open"], name
        for node in ast.walk(tree):
            if isinstance(node, ast.Attribute):
                assert node.attr not in ("writing", "drop", "replace_file"), f"{name}:{node.lineno}"


def imports(name: str, tree: ast.Module) -> set[str]:
    """The modules that are imported when this one is: not those for types alone, nor those within functions."""
    found = set()
    for node in tree.body:
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("keenharbor"):
            base = node.module.removeprefix("keenharbor").lstrip(".").replace(".", "/")
            for alias in node.names:
                for candidate in (
                    f"{base}/{alias.name}.py",
                    f"{base}/{alias.name}/__init__.py",
                    f"{base}.py",
                    f"{base}/__init__.py",
                ):
                    if candidate.lstrip("/") in modules() and candidate.lstrip("/") != name:
                        found.add(candidate.lstrip("/"))
                        break
    return found


def circles() -> list[list[str]]:
    """Modules that import each other in a ring (Tarjan, "Depth-first search and linear graph algorithms", 1972)."""
    graph = {name: imports(name, tree) for name, tree in modules().items()}
    index: dict[str, int] = {}
    low: dict[str, int] = {}
    stack: list[str] = []
    found: list[list[str]] = []

    def visit(name: str) -> None:
        index[name] = low[name] = len(index)
        stack.append(name)
        for other in graph[name]:
            if other not in index:
                visit(other)
                low[name] = min(low[name], low[other])
            elif other in stack:
                low[name] = min(low[name], index[other])
        if low[name] == index[name]:
            ring = []
            while True:
                ring.append(stack.pop())
                if ring[-1] == name:
                    break
            if len(ring) > 1:
                found.append(sorted(ring))

    for name in graph:
        if name not in index:
            visit(name)
    return found


def test_modules_do_not_import_each_other_in_rings() -> None:
    assert circles() == []


def lengths() -> tuple[list[tuple[int, str]], list[tuple[int, str, str]]]:
    """Lines of modules and of functions, longest first."""
    whole = [(len((CODE / name).read_text(encoding="utf-8").splitlines()), name) for name in modules()]
    functions = [
        ((node.end_lineno or 0) - node.lineno + 1, name, node.name)
        for name, tree in modules().items()
        for node in ast.walk(tree)
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef)
    ]
    return sorted(whole, reverse=True), sorted(functions, reverse=True)


def test_modules_and_functions_have_a_size_that_can_be_read() -> None:
    whole, functions = lengths()
    assert whole[0][0] <= LONGEST_MODULE, whole[:3]
    long = [f for f in functions if f[0] > LONGEST_FUNCTION]
    assert not long, long


def anys() -> dict[str, int]:
    """How often `Any` is said, by module."""
    found = {
        name: sum(isinstance(n, ast.Name) and n.id == "Any" for n in ast.walk(tree)) for name, tree in modules().items()
    }
    return {name: count for name, count in found.items() if count}


def test_any_stands_only_where_things_come_in() -> None:
    allowed = tuple(place for places in ANY_MAY_STAND.values() for place in places)
    wrong = {name: count for name, count in anys().items() if not name.startswith(allowed)}
    assert not wrong, wrong
    far = sum(count for name, count in anys().items() if name.startswith(("host/far/", "host/sqlitefile")))
    assert far <= MOST_ANY_FAR
    assert sum(anys().values()) - far <= MOST_ANY


def test_code_and_documents_have_lines_that_fit() -> None:
    wide = [
        f"{path.relative_to(ROOT)}:{number}"
        for path in (
            *ROOT.glob("*.md"),
            *(ROOT / "docs").rglob("*.md"),
            *(ROOT / "benchmarks").glob("*.md"),
            *(ROOT / "examples").rglob("*.md"),
        )
        for number, line in enumerate(path.read_text(encoding="utf-8").splitlines(), 1)
        if len(line) > 120 and "](" not in line and not line.startswith("|")
    ]
    assert not wide, wide


def test_no_module_beside_the_databases_names_an_engine() -> None:
    named = [
        f"{name}:{node.lineno} {node.value}"
        for name, tree in modules().items()
        if not name.startswith(("database/", "demo/"))
        for node in ast.walk(tree)
        if isinstance(node, ast.Constant) and node.value in ("sqlite", "mariadb", "postgres")
    ]
    assert not named, named


def test_the_table_of_steps_is_that_of_the_registry() -> None:
    from keenharbor.trial.steps import KINDS, StepBase

    text = (ROOT / "docs/site-file.md").read_text(encoding="utf-8")
    for kind in KINDS:
        (name,) = kind.model_fields["kind"].annotation.__args__  # type: ignore[union-attr]
        row = next(line for line in text.splitlines() if line.startswith(f"| `{name}` |"))
        for field in kind.model_fields.keys() - StepBase.model_fields.keys() - {"kind"}:
            assert f"`{field}`" in row, f"{name}: {field}"


if __name__ == "__main__":
    whole, functions = lengths()
    print(f"{len(whole)} modules, the longest: {whole[:3]}")
    print(f"functions above {LONGEST_FUNCTION} lines: {[f for f in functions if f[0] > LONGEST_FUNCTION]}")
    print(f"rings of imports: {circles()}")
    print(f"Any: {sum(anys().values())} times in {len(anys())} modules")

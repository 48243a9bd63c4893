"""Settings files in every form: what is read is what the form's own parser reads; what is set is all that changes."""

from __future__ import annotations

import ast
import contextlib
import json
import keyword
import os
import shutil
import subprocess
import tomllib
from pathlib import Path
from typing import Any

import pytest
import tomlkit
import yaml
from hypothesis import example, given, settings
from hypothesis import strategies as st

from keenharbor.site.settings import (
    FORMS,
    SettingsError,
    form_of,
    joined_key,
    key_parts,
    settings_in,
    values_in,
    with_value,
)
from keenharbor.site.settings.php import _as_php

WHERE = Path("/srv/site/conf/settings")
plain_texts = st.text(
    st.characters(min_codepoint=32, max_codepoint=0x2FFF, exclude_categories=("Cs", "Cc")), max_size=12
)
names = st.from_regex(r"[A-Za-z_][A-Za-z0-9_]{0,8}", fullmatch=True).filter(lambda n: not keyword.iskeyword(n))
leaves = plain_texts | st.integers(-(2**40), 2**40) | st.booleans()
trees = st.dictionaries(names,
    st.recursive(leaves, lambda inner: st.dictionaries(names, inner, min_size=1, max_size=3), max_leaves=6),
                        min_size=1, max_size=4)  # fmt: skip


def flat(value: Any, way: tuple[str, ...] = ()) -> dict[str, str]:
    if isinstance(value, dict):
        return {k: v for name, inner in value.items() for k, v in flat(inner, (*way, str(name))).items()}
    return {joined_key(way): str(value).lower() if isinstance(value, bool) else str(value)}


def as_php(value: Any) -> str:
    if isinstance(value, dict):
        return "[" + ", ".join(f"{_as_php(k)} => {as_php(v)}" for k, v in value.items()) + "]"
    return str(value).lower() if isinstance(value, bool) else str(value) if isinstance(value, int) else _as_php(value)


WRITTEN = {
    "json": lambda tree: json.dumps(tree, indent=1),
    "yaml": lambda tree: yaml.safe_dump(tree, allow_unicode=True),
    "toml": lambda tree: tomlkit.dumps(tree),
    "python": lambda tree: "\n".join(f"{k} = {v!r}" for k, v in tree.items()),
    "php": lambda tree: f"<?php\nreturn {as_php(tree)};\n",
}
PARSED = {
    "json": json.loads,
    "yaml": yaml.safe_load,
    "toml": tomllib.loads,
    "python": lambda text: {
        t.id: ast.literal_eval(s.value) for s in ast.parse(text).body if isinstance(s, ast.Assign)
        for t in s.targets if isinstance(t, ast.Name)
    },
}  # fmt: skip


@pytest.mark.parametrize("form", sorted(WRITTEN))
@given(tree=trees)
@settings(max_examples=60, deadline=None)
def test_every_value_is_read(form: Any, tree: dict[str, Any]) -> None:
    if form == "yaml" and any(
        k.lower() in ("y", "n", "yes", "no", "on", "off", "true", "false", "null") for k in str(tree).split("'")
    ):
        return
    assert values_in(WRITTEN[form](tree), form, WHERE) == flat(tree)


@pytest.mark.parametrize("form", sorted(PARSED))
@given(tree=trees, pick=st.integers(0, 50), value=plain_texts)
@example(tree={"a": ""}, pick=0, value="@")
@example(tree={"a": ""}, pick=0, value="- 1")
@settings(max_examples=60, deadline=None)
def test_setting_a_value_changes_it_alone(form: Any, tree: dict[str, Any], pick: int, value: str) -> None:
    text = WRITTEN[form](tree)
    texts = sorted(k for k, v in flat(tree).items() if isinstance(at(tree, k), str))
    if not texts or values_in(text, form, WHERE) != flat(tree):
        return
    key = texts[pick % len(texts)]
    done = with_value(text, key, value, form)
    wanted = flat(tree) | {key: value}
    assert flat(PARSED[form](done)) == wanted
    assert values_in(done, form, WHERE) == wanted


def at(tree: Any, key: str) -> Any:
    for part in key_parts(key):
        tree = tree[part]
    return tree


@given(st.lists(st.text(max_size=6), min_size=1, max_size=5))
def test_keys_come_apart_as_they_were_joined(parts: list[str]) -> None:
    assert key_parts(joined_key(parts)) == parts


# -- PHP, against PHP -------------------------------------------------------------------------------------------

PHP = r"""<?php
/* What a site has: {"database": {"name": "in_comment", "user": "asked"}} */
define('DB_NAME', 'seeds'); define( "DB_HOST" , "localhost:/run/my.sock" );
const VERSION = '4.2.1', NEXT = VERSION . '-dev';
define('HARM', file_put_contents('/nowhere/harm', 'x')); // never done
$prefix = "st_\x41\u{e9}\101"; $odd = 'it\'s \n \\';
$db['default']['hostname'] = 'db.example';
$db['default']['options'] = array('ssl' => true, 5 => null, 'list' => ["a", 'b'], 'made' => strtoupper('x'), 'after' => 7);
class Conf { public $host = 'h1'; public ?string $user = 'u'; protected static $pw = 'p$w'; const int LIMIT = 5; }
$pdo = new PDO('mysql:host=a;dbname=b', 'asker', 'pw');
$where = __DIR__ . '/data/' . 'site.db'; $up = dirname(__FILE__, 2);
$given = getenv('NOT_SET_ANYWHERE') ?: 'else'; $text = <<<'EOT'
  two
  lines
EOT;
if ($_GET['x'] ?? false) { unlink('/nowhere'); }
// {"line": "comment",
//  "more": 1}
return ['cache' => ['kind' => 'file', 'time' => -5], 'on' => false];
"""


def test_php_is_read_and_not_run() -> None:
    found = values_in(PHP, "php", WHERE)
    assert not Path("/nowhere/harm").exists()
    expected = {
        "DB_NAME": "seeds", "DB_HOST": "localhost:/run/my.sock", "VERSION": "4.2.1", "NEXT": "4.2.1-dev",
        "$prefix": "st_AéA",
        "$odd": "it's \\n \\", "$db.default.hostname": "db.example", "$db.default.options.ssl": "true",
        "$db.default.options.5": "",
        "$db.default.options.list.0": "a", "$db.default.options.list.1": "b", "$db.default.options.after": "7",
        "$host": "h1",
        "$user": "u", "$pw": "p$w", "LIMIT": "5", "PDO(0)": "mysql:host=a;dbname=b", "PDO(1)": "asker", "PDO(2)": "pw",
        "$where": "/srv/site/conf/data/site.db", "$up": "/srv/site", "$given": "else", "cache.kind": "file",
        "cache.time": "-5",
        "on": "false", "comment.database.name": "in_comment", "comment.database.user": "asked",
        "comment.line": "comment",
        "comment.more": "1", "$text": "  two\n  lines",
    }  # fmt: skip
    assert found == expected
    lines = {s.key: s.line for s in settings_in(PHP, "php", WHERE)}
    assert (lines["DB_NAME"], lines["$host"], lines["comment.line"]) == (3, 9, 17)


def php() -> str:
    found = shutil.which("php")
    if found is None:
        if os.environ.get("CI"):
            pytest.fail("php is not installed")
        pytest.skip("php is not installed")
    return found


@given(tree=trees, pick=st.integers(0, 50), value=plain_texts)
@example(tree={"a": "x\\"}, pick=0, value="'\\'")
@settings(max_examples=25, deadline=None)
def test_php_reads_what_was_set_as_php_does(
    tmp_path_factory: pytest.TempPathFactory, tree: dict[str, Any], pick: int, value: str
) -> None:
    texts = sorted(k for k in flat(tree) if isinstance(at(tree, k), str))
    if not texts:
        return
    key = texts[pick % len(texts)]
    file = tmp_path_factory.mktemp("php") / "conf.php"
    file.write_text(with_value(WRITTEN["php"](tree), key, value, "php"))
    ran = subprocess.run(
        [php(), "-n", "-r", "echo json_encode(require $argv[1]);", str(file)], capture_output=True, check=True
    )
    assert flat(json.loads(ran.stdout)) == flat(tree) | {key: value}


# -- the other forms --------------------------------------------------------------------------------------------


def test_environment_files() -> None:
    text = '# a\nexport A=1 # one\nB=\'x # y\'\nC="a\\"b\\n${A}"\nD=\nE="two\nlines"\nF=plain words\n'
    assert values_in(text, "env", WHERE) == {
        "A": "1", "B": "x # y", "C": 'a"b\n1', "D": "", "E": "two\nlines", "F": "plain words",
    }  # fmt: skip
    assert with_value(text, "A", "5", "env") == text.replace("A=1", "A=5")
    assert with_value(text, "D", "a b", "env") == text.replace("D=", 'D="a b"')
    assert values_in(with_value(text, "C", 'q"\\', "env"), "env", WHERE)["C"] == 'q"\\'


def test_ini_files() -> None:
    text = 'top = 1\n[a]\nKey = x ; y\nquoted = "a b"\nlong = one\n  two\n[b.c]\nkey: v\n'
    assert values_in(text, "ini", WHERE) == {
        "top": "1",
        "a.key": "x ; y",
        "a.quoted": "a b",
        "a.long": "one\ntwo",
        "b.c.key": "v",
    }
    assert with_value(text, "a.quoted", "c", "ini") == text.replace('"a b"', '"c"')


def test_xml_files() -> None:
    text = '<conf><db host="h" name="main"><user>u</user></db><property name="site.url">http://x</property></conf>'
    assert values_in(text, "xml", WHERE) == {"main.host": "h", "main.user": "u", "site\\.url": "http://x"}
    with pytest.raises(SettingsError, match="entities"):
        list(settings_in('<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>', "xml"))


def test_python_files_follow_whole_imports_and_nothing_else(tmp_path: Path) -> None:
    (tmp_path / "base.py").write_text("SITE = 'one'\nAPPS = ['a']\nfrom .dev import *\n")
    text = (
        "import os\nfrom pathlib import Path\nfrom .base import *\nos.system('touch harm')\n"
        "BASE = Path(__file__).resolve().parent\nDATABASES = {'default': {'ENGINE': 'x.sqlite3', 'NAME': BASE / "
        "'a.db'}}\n"
        "APPS += ['b']\nKEY = os.environ.get('K', 'else')\nDB = config(default='sqlite:///x.db', "
        "age=5)\nDATABASES['two'] = {'HOST': 'h'}\n"
    )
    (tmp_path / "dev.py").write_text(text)
    assert values_in(text, "python", tmp_path / "dev.py") == {
        "SITE": "one", "APPS.0": "a", "APPS.1": "b", "BASE": str(tmp_path), "DATABASES.default.ENGINE": "x.sqlite3",
        "DATABASES.default.NAME": f"{tmp_path}/a.db", "KEY": "else", "DB.default": "sqlite:///x.db", "DB.age": "5",
        "DATABASES.two.HOST": "h",
    }  # fmt: skip
    assert not (tmp_path / "harm").exists()


@pytest.mark.parametrize(
    ("form", "text"),
    [
        ("json", "[" * 100_000), ("yaml", "[" * 5_000), ("php", "<?php $a = " + "[" * 50_000),
        ("python", "A = " + "(" * 5_000),
        ("python", "A = " + "-" * 90_000 + "1"), ("toml", "a = " + "[" * 5_000), ("xml", "<a>" * 50_000),
        ("env", "A='"),
        ("php", "<?php /* " + "{" * 90_000), ("php", "<?php <<<A\n" + "x" * 90_000), ("ini", "[a]\n?"),
        ("json", "\udc80"),
        ("yaml", "a: &a [x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b]\nd: &d "
            "[*c,*c,*c,*c,*c,*c,*c,*c]\n"
                 "e: &e [*d,*d,*d,*d,*d,*d,*d,*d]\nf: &f [*e,*e,*e,*e,*e,*e,*e,*e]\ng: [*f,*f,*f,*f,*f,*f,*f,*f]"),
    ],
)  # fmt: skip
def test_hostile_texts_are_refused_or_read_in_bounds(form: Any, text: str) -> None:
    with contextlib.suppress(SettingsError):
        assert len(list(settings_in(text, form))) < 300_000


@given(st.text(max_size=80), st.sampled_from(FORMS))
@settings(max_examples=300, deadline=None)
def test_any_text_is_read_or_refused(text: str, form: Any) -> None:
    try:
        for setting in settings_in("<?php " + text if form == "php" else text, form):
            assert setting.start == -1 or 0 <= setting.start <= setting.end
    except SettingsError:
        pass


def test_names_tell_the_form() -> None:
    assert [form_of(n) for n in ("a/.env", ".env.local", "x.YML", "c.php", "pic.jpg", "settings.py")] == [
        "env", "env", "yaml", "php", None, "python",
    ]  # fmt: skip

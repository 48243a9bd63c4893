"""Taking away and back: archives of open formats, restorable by hand; hostile ones are refused and nothing is
written."""

from __future__ import annotations

import hashlib
import io
import json
import random
import shutil
import sqlite3
import subprocess
import tarfile
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyrage
import pytest
import zstandard
from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import harbor, plain_dump, plain_files, query, state_in_memory
from keenharbor.base.errors import DamagedError, KeenHarborError
from keenharbor.base.progress import Silent
from keenharbor.database import open_database, sql_text
from keenharbor.demo.scene import Scene
from keenharbor.snapshot import agefile
from keenharbor.snapshot.agefile import Sealer
from keenharbor.snapshot.importing import import_snapshot
from keenharbor.snapshot.sealed import PartsWriter, Unsealer
from keenharbor.snapshot.tarball import Tarball
from keenharbor.store import Store
from test_engines import PrivateServer, everything, foreign_dump, fresh, server, servers  # noqa: F401

ODD = "odd ü\udcff\\ name\n.txt"


@pytest.fixture
def taken(scene: Scene) -> Scene:
    """A site with odd things in it, and a snapshot of it."""
    (scene.root / "media/link").symlink_to("seeds")
    (scene.root / "media/empty").mkdir()
    (scene.root / "media" / ODD).write_bytes(b"odd")
    (scene.root / "media/one").write_bytes(b"same")
    (scene.root / "media/two").hardlink_to(scene.root / "media/one")
    (scene.root / "media/none").write_bytes(b"")
    harbor(scene.folder, "snapshot", "take", "--label", "one")
    return scene


def other_site(scene: Scene, folder: Path) -> Path:
    """A site file with a store of its own."""
    file = scene.folder / f"{folder.name}.toml"
    text = scene.site_file.read_text()
    text = text.replace('path = "harbor/store"', f'path = "{folder}/store"')
    file.write_text(text.replace('work = "harbor"', f'work = "{folder}/work"'))
    return file


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("a.tar.zst", ()), ("a.tar.gz", ("--csv", "*")), ("a.zip", ()), ("p.tar.zst", ("--part", "64K")),
        ("s.zip", ("--sealed",)),
        ("s.tar.zst", ("--sealed", "--part", "64K")),
    ],
)  # fmt: skip
def test_an_exported_snapshot_comes_back_elsewhere(
    taken: Scene, tmp_path: Path, name: str, words: tuple[str, ...]
) -> None:
    (taken.folder / "secret").write_text("pips and stones\n")
    odd = not name.endswith(".zip")
    if not odd:
        refused = harbor(taken.folder, "snapshot", "export", "one", tmp_path / name, code=2)
        assert "cannot hold the name" in refused.err and not (tmp_path / name).exists()
        (taken.root / "media" / ODD).unlink()
        harbor(taken.folder, "snapshot", "take", "--label", "two")
    sealed = ("--passphrase-file", "secret") if "--sealed" in words else ()
    plain = [w for w in words if w != "--sealed"]
    made = harbor(
        taken.folder, "snapshot", "export", "one" if odd else "two", tmp_path / name, *plain, *sealed, "--json"
    ).json
    assert all(Path(f).exists() for f in made["files"])
    assert (len(made["files"]) > 1) == ("--part" in words)
    if sealed:
        assert all(b"manifest" not in Path(f).read_bytes() for f in made["files"])
    site = other_site(taken, tmp_path / "other")
    come = harbor(taken.folder, "snapshot", "import", made["files"][0], *sealed, "--site", site, "--json").json
    there = harbor(taken.folder, "snapshot", "usage", "--json").json["snapshots"]
    (whole,) = (s["whole_bytes"] for s in there if s["id"] == come["id"])
    assert 0 < come["added_bytes"] < 1.2 * whole, "it takes no more space than where it came from"
    harbor(taken.folder, "snapshot", "restore", made["snapshot"], "--to", tmp_path / "back", "--site", site)
    assert plain_files(tmp_path / "back/files") == plain_files(taken.root)
    assert not odd or (tmp_path / "back/files/media" / ODD).read_bytes() == b"odd"
    assert (tmp_path / "back/files/media/one").samefile(tmp_path / "back/files/media/two")
    assert plain_dump(tmp_path / "back/database" / taken.database.name) == plain_dump(taken.database)
    assert harbor(taken.folder, "snapshot", "verify", "--site", site, "--json").json["good"]
    again = harbor(taken.folder, "snapshot", "import", made["files"][0], *sealed, "--site", site, "--json").json
    assert again["id"] == made["snapshot"], "taking it in twice is no trouble"


def test_a_restore_by_hand_needs_no_tool_of_ours(taken: Scene, tmp_path: Path) -> None:
    if shutil.which("zstd") is None:
        pytest.skip("zstd is not installed")
    harbor(taken.folder, "snapshot", "export", "one", tmp_path / "a.tar.zst", "--part", "64K", "--csv", "loans")
    shell = (
        "cat a.tar.zst.??? > whole && mkdir out && tar --zstd -xpf whole -C out && cd out && sha256sum --quiet -c "
        "SHA256SUMS"
    )
    subprocess.run(shell, shell=True, cwd=tmp_path, check=True)
    out = tmp_path / "out"
    assert plain_files(out / "files") == plain_files(taken.root)
    for path in ("core/VERSION", "media/one"):
        assert (out / "files" / path).stat().st_mtime_ns == (taken.root / path).stat().st_mtime_ns
    connection = sqlite3.connect(out / "new.db")
    connection.executescript((out / "database/marrow-lane.db.sql").read_text())
    connection.close()
    assert plain_dump(out / "new.db") == plain_dump(taken.database)
    lines = (out / "csv/loans.csv").read_bytes().split(b"\r\n")
    assert len(lines) - 2 == query(taken.database, "SELECT count(*) FROM loans")[0][0]
    readme = (out / "README.txt").read_text()
    assert "sha256sum -c SHA256SUMS" in readme and "sqlite3 NEW.db <" in readme


def test_sql_text_is_taken_by_the_engines_own_client(server: PrivateServer) -> None:  # noqa: F811
    source = fresh(server, everything(server))
    state = state_in_memory(source)
    target = fresh(server)
    text = b"".join(sql_text(state))
    if server.engine == "mariadb":
        command = [
            "mariadb",
            "--no-defaults",
            "--default-character-set=utf8mb4",
            "-S",
            target.socket,
            "-u",
            "root",
            target.name,
        ]
        with open_database(target).writing() as writer:
            writer.script(f"ALTER DATABASE {target.name} CHARACTER SET {state.schema.settings['charset']}")
    else:
        tools = sorted(Path("/usr/lib/postgresql").glob("*/bin/psql"))
        program = str(tools[-1]) if tools else "psql"
        command = [
            program,
            "-q",
            "-v",
            "ON_ERROR_STOP=1",
            "-h",
            str(Path(target.socket).parent),
            "-U",
            target.user,
            "-d",
            target.name,
        ]
    ran = subprocess.run(command, input=text, capture_output=True, check=False)
    assert ran.returncode == 0, ran.stderr.decode()[:800]
    assert foreign_dump(target) == foreign_dump(source)


# -- hostile archives -------------------------------------------------------------------------------------------


def unpacked(file: Path) -> list[tuple[tarfile.TarInfo, bytes]]:
    with (
        zstandard.ZstdDecompressor().stream_reader(file.open("rb"), closefd=True) as plain,
        tarfile.open(fileobj=plain, mode="r|") as tar,
    ):
        return [(i, tar.extractfile(i).read() if i.isreg() else b"") for i in tar]  # type: ignore[union-attr]


def packed(members: list[tuple[tarfile.TarInfo, bytes]], file: Path) -> Path:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as tar:
        for info, data in members:
            info.size = len(data) if info.isreg() else 0
            tar.addfile(info, io.BytesIO(data))
    file.write_bytes(zstandard.ZstdCompressor().compress(out.getvalue()))
    return file


def with_sums(members: list[tuple[tarfile.TarInfo, bytes]]) -> list[tuple[tarfile.TarInfo, bytes]]:
    """Members with right sums behind them: an attacker can count, too."""
    body = [m for m in members if m[0].name != "SHA256SUMS"]
    lines = []
    for info, data in body:
        if info.isreg():
            name = info.name.replace("\\", "\\\\").replace("\n", "\\n")
            mark = "\\" if name != info.name else ""
            lines.append(f"{mark}{hashlib.sha256(data).hexdigest()}  {name}\n".encode("utf-8", "surrogateescape"))
    return [*body, (tarfile.TarInfo("SHA256SUMS"), b"".join(lines))]


def new(name: str, data: bytes = b"x", kind: bytes = tarfile.REGTYPE, link: str = "") -> tuple[tarfile.TarInfo, bytes]:
    info = tarfile.TarInfo(name)
    info.type, info.linkname = kind, link
    return info, data if kind == tarfile.REGTYPE else b""


Members = list[tuple[tarfile.TarInfo, bytes]]


def manifest_with(members: Members, change: Callable[[dict[str, Any]], None]) -> Members:
    held = json.loads(members[0][1])
    change(held["snapshot"])
    return [(members[0][0], json.dumps(held).encode()), *members[1:]]


def entry_of(path: str, kind: str = "file", target: str | None = None) -> list[Any]:
    return [
        path,
        kind,
        0o644,
        0,
        1 if kind == "file" else 0,
        "media",
        target,
        ["0" * 64] if kind == "file" else [],
        0,
        0,
        0,
        0,
        None,
        False,
    ]


HOSTILE: dict[str, Callable[[Members], Members]] = {
    "a file that is not in the manifest": lambda m: with_sums([*m, new("files/extra.php")]),
    "a path that climbs out": lambda m: with_sums([*m, new("files/../../etc/cron.d/x")]),
    "a path that climbs out, in the manifest too": lambda m: with_sums(
        [*manifest_with(m, lambda s: s["tree"].append(entry_of("../../etc/x"))), new("files/../../etc/x")]
    ),
    "an absolute path": lambda m: with_sums([*m, new("/etc/passwd")]),
    "a link that points out": lambda m: with_sums(
        [*manifest_with(m, lambda s: s["tree"].append(entry_of("out", "link", "/etc"))),
            new("files/out", kind=tarfile.SYMTYPE, link="/etc")]
    ),
    "a file below a link": lambda m: with_sums(
        manifest_with(m, lambda s: s["tree"].extend([entry_of("up", "link", "media"), entry_of("up/x")]))
    ),
    "a device": lambda m: with_sums([*m, new("files/dev", kind=tarfile.CHRTYPE)]),
    "a pipe": lambda m: with_sums([*m, new("files/pipe", kind=tarfile.FIFOTYPE)]),
    "a member twice": lambda m: with_sums([*m, m[5]]),
    "no manifest first": lambda m: with_sums([m[1], m[0], *m[2:]]),
    "no sums": lambda m: [x for x in m if x[0].name != "SHA256SUMS"],
    "something behind the sums": lambda m: [*m, new("files/late")],
    "a changed file": lambda m: with_sums([(i, b"y" * len(d) if i.name == "files/core/VERSION" else d) for i, d in m]),
    "changed rows": lambda m: with_sums([(i, d[::-1] if i.name.startswith("rows/") else d) for i, d in m]),
    "changed SQL text without its sum": lambda m: [(i, d + b"DROP TABLE x;" if i.name.startswith("database/") else d)
        for i, d in m],
    "a missing file": lambda m: with_sums([x for x in m if x[0].name != "files/core/VERSION"]),
    "missing rows": lambda m: with_sums([x for x in m if x[0].name != "rows/0.lines"]),
    "a bomb": lambda m: with_sums([(i, bytes(90_000_000) if i.name == "files/core/VERSION" else d) for i, d in m]),
    "a bomb of SQL text": lambda m: with_sums(
        [(i, bytes(90_000_000) if i.name.startswith("database/") else d) for i, d in m]),
    "a head that is a bomb": lambda m: with_sums([*m, new("files/" + "x" * 30_000_000)]),
    "a manifest of nonsense": lambda m: with_sums(
        [(m[0][0], b'{"form": "keenharbor-export-1", "snapshot": {"tree": 7}}'), *m[1:]]),
    "a manifest that nests": lambda m: with_sums([(m[0][0], b"[" * 100_000), *m[1:]]),
    "a name that would be another file": lambda m: with_sums(manifest_with(m, lambda s: s.update(id="../../x"))),
    "lists that are elsewhere": lambda m: with_sums(
        manifest_with(m, lambda s: s.update(tree={"files": 0, "bytes": 0, "parts": []}))),
    "chunks that are elsewhere": lambda m: with_sums(
        manifest_with(m, lambda s: s["database"]["tables"][0].update(chunks_in="0" * 64))),
    "a mode beyond all modes": lambda m: with_sums(manifest_with(m, lambda s: s["tree"][3].__setitem__(2, 0o17777777))),
    "a second name of what is not there": lambda m: with_sums(
        manifest_with(m, lambda s: s["tree"][3].__setitem__(11, "nowhere"))),
}  # fmt: skip


@pytest.fixture(scope="module")
def exported(shared_scene: Scene, tmp_path_factory: pytest.TempPathFactory) -> Path:
    harbor(shared_scene.folder, "snapshot", "take", "--label", "e")
    file = tmp_path_factory.mktemp("export") / "good.tar.zst"
    harbor(shared_scene.folder, "snapshot", "export", "e", file)
    return file


def nothing_written(store: Store) -> bool:
    kept = [f for f in store.folder.rglob("*") if f.is_file() and f.suffix != ".lock"]
    return {f.name for f in kept} == {"store.json", "READ ME.txt"}


@pytest.mark.parametrize("what", HOSTILE)
def test_a_hostile_archive_is_refused_and_nothing_is_written(exported: Path, tmp_path: Path, what: str) -> None:
    store = Store.create(tmp_path / "store")
    bad = packed(HOSTILE[what](unpacked(exported)), tmp_path / "bad.tar.zst")
    with pytest.raises(DamagedError, match="refused"):
        import_snapshot(bad, store, Silent())
    assert nothing_written(store)


def test_the_packing_of_these_tests_is_no_reason_to_refuse(exported: Path, tmp_path: Path) -> None:
    good = packed(with_sums(unpacked(exported)), tmp_path / "good.tar.zst")
    assert import_snapshot(good, Store.create(tmp_path / "store"), Silent()).label == "e"


@given(st.integers(0, 2**63), st.booleans())
@settings(max_examples=60, deadline=None)
def test_a_damaged_archive_is_refused_or_gives_just_what_it_was(
    exported: Path, tmp_path_factory: pytest.TempPathFactory, seed: int, cut: bool
) -> None:
    chance = random.Random(seed)
    data = bytearray(exported.read_bytes())
    if cut:
        del data[chance.randrange(len(data)) :]
    else:
        at = chance.randrange(len(data))
        data[at] ^= 1 << chance.randrange(8)
    folder = tmp_path_factory.mktemp("d")
    (folder / "a").write_bytes(data)
    store = Store.create(folder / "store")
    try:
        taken = import_snapshot(folder / "a", store, Silent())
    except KeenHarborError:
        assert nothing_written(store)
    else:
        for _, identity in taken.objects():
            store.read(identity)
    shutil.rmtree(folder)


def sealed(data: bytes, folder: Path) -> bytes:
    out = PartsWriter(folder / "x", 500_000)
    sealer = Sealer(out, "word")
    sealer.write(data[:100])
    sealer.write(data[100:])
    sealer.close()
    whole = b"".join(f.read_bytes() for f in out.files)
    for file in out.files:
        file.unlink()
    return whole


LENGTHS = st.sampled_from([0, 1, 99, 3000, 65535, 65536, 65537, 131072, 200_000])


@given(LENGTHS, st.integers(0, 2**63))
@settings(max_examples=12, deadline=None)
def test_a_sealed_stream_comes_back_or_is_refused(
    tmp_path_factory: pytest.TempPathFactory, length: int, seed: int
) -> None:
    chance = random.Random(seed)
    data = chance.randbytes(length)
    whole = sealed(data, tmp_path_factory.mktemp("s"))
    assert agefile.Unsealer(io.BytesIO(whole), "word").read() == data
    assert pyrage.passphrase.decrypt(whole, "word") == data, "as the format's own library reads it"
    with pytest.raises(DamagedError, match="passphrase is wrong"):
        agefile.Unsealer(io.BytesIO(whole), "other").read()
    bad = bytearray(whole)
    bad[chance.randrange(len(bad))] ^= 1 << chance.randrange(8)
    for tampered in (bytes(bad), whole[: chance.randrange(len(whole))], whole + b"x"):
        with pytest.raises(DamagedError):
            agefile.Unsealer(io.BytesIO(tampered), "word").read()


def test_a_sealed_stream_is_read_in_pieces_of_any_size(tmp_path: Path) -> None:
    data = random.Random(3).randbytes(200_000)
    stream = agefile.Unsealer(io.BytesIO(sealed(data, tmp_path)), "word")
    assert stream.read(7) + stream.read(65_536) + stream.read(0) + stream.read() == data and stream.read(1) == b""
    costly = sealed(b"", tmp_path).replace(b" 16\n", b" 30\n")
    with pytest.raises(DamagedError, match="out of range"):
        agefile.Unsealer(io.BytesIO(costly), "word")


def sealed_as_before(data: bytes, passphrase: str) -> bytes:
    """As earlier versions sealed: see `keenharbor.snapshot.sealed`."""
    told = {"format": "keenharbor-sealed-1", "cipher": "chacha20-poly1305", "kdf": "scrypt", "n": 2**12, "r": 8, "p": 1,
            "salt": "ab" * 16, "piece": 1000}  # fmt: skip
    head = json.dumps(told).encode()
    cipher = ChaCha20Poly1305(Scrypt(salt=b"\xab" * 16, length=32, n=2**12, r=8, p=1).derive(passphrase.encode()))
    parts = [head, b"\n"]
    pieces = [data[at : at + 1000] for at in range(0, len(data), 1000)]
    for number, piece in enumerate(pieces):
        length = (len(piece) + 16 | (1 << 31 if number == len(pieces) - 1 else 0)).to_bytes(4, "big")
        parts += (length, cipher.encrypt(number.to_bytes(12, "big"), piece, length + head))
    return b"".join(parts)


def test_an_archive_that_an_earlier_version_sealed_is_read(taken: Scene, tmp_path: Path) -> None:
    plain, file = tmp_path / "a.tar.zst", tmp_path / "a.sealed"
    harbor(taken.folder, "snapshot", "export", "newest", plain)
    whole = sealed_as_before(plain.read_bytes(), "word")
    file.write_bytes(whole)
    (tmp_path / "word").write_text("word\n")
    (tmp_path / "wrong").write_text("other\n")
    harbor(taken.folder, "snapshot", "import", file, "--passphrase-file", tmp_path / "wrong", code=1)
    known = {s["id"] for s in harbor(taken.folder, "snapshot", "list", "--json").json}
    ran = harbor(taken.folder, "snapshot", "import", file, "--passphrase-file", tmp_path / "word", code=None)
    assert ran.code == 0 or "already" in ran.err, ran.err
    assert known <= {s["id"] for s in harbor(taken.folder, "snapshot", "list", "--json").json}
    assert Unsealer(io.BytesIO(whole), "word").read() == plain.read_bytes()
    with pytest.raises(DamagedError):
        Unsealer(io.BytesIO(whole[:-20]), "word").read()


def test_wrong_use_is_told(taken: Scene, tmp_path: Path) -> None:
    def run(*words: str | Path, code: int = 2) -> str:
        return harbor(taken.folder, "snapshot", *words, code=code).err

    (taken.root / "media" / ODD).unlink()
    harbor(taken.folder, "snapshot", "take", "--label", "plain")
    harbor(taken.folder, "snapshot", "export", "plain", tmp_path / "a.zip")
    assert "such a file already" in run("export", "plain", tmp_path / "a.zip")
    assert "folder for the archive is not there" in run("export", "plain", tmp_path / "no/a.zip")
    assert "no table 'x'" in run("export", "plain", tmp_path / "b.zip", "--csv", "x")
    assert not (tmp_path / "b.zip").exists()
    assert "no such archive" in run("import", tmp_path / "nothing.zip")
    (tmp_path / "text").write_text("hello, this is no archive")
    assert "neither a tar archive" in run("import", tmp_path / "text", code=1)
    harbor(taken.folder, "snapshot", "export", "plain", tmp_path / "c.tar.gz", "--part", "64K")
    (tmp_path / "c.tar.gz.001").unlink()
    assert "part 001 of the archive is missing" in run("import", tmp_path / "c.tar.gz")
    (taken.folder / "pass").write_text("word")
    harbor(taken.folder, "snapshot", "export", "plain", tmp_path / "d.zip", "--passphrase-file", "pass")
    assert "the archive is sealed" in run("import", tmp_path / "d.zip")
    (taken.folder / "pass").write_text("other")
    assert "passphrase is wrong" in run("import", tmp_path / "d.zip", "--passphrase-file", "pass", code=1)


# -- the archive's own form -----------------------------------------------------------------------------------

NAMES = st.lists(st.text(st.characters(codec="utf-8", exclude_characters="/\0", exclude_categories=("Cs",)), min_size=1,
                         max_size=60), min_size=1, max_size=6).map("/".join)  # fmt: skip
PLAIN_NAMES = st.lists(st.text("abcXYZ 09._-", min_size=1, max_size=70), min_size=1, max_size=6).map("/".join)


@given(
    members=st.lists(
        st.tuples(
            st.one_of(PLAIN_NAMES, NAMES),
            st.sampled_from(["file", "folder", "link", "hard"]),
            st.binary(max_size=1500),
            st.integers(0, 0o7777),
            st.integers(0, 3_000_000),
            st.integers(0, 4 * 10**18),
        ),
        max_size=6,
    )
)
def test_any_member_comes_out_of_a_tar_archive_as_it_was_put_in(
    members: list[tuple[str, str, bytes, int, int, int]],
) -> None:
    made = io.BytesIO()
    tarball = Tarball(made)
    for name, kind, content, mode, owner, mtime in members:
        target = content.hex()
        if kind == "file":
            half = len(content) // 2
            tarball.file(name, len(content), [content[:half], content[half:]], mode, owner, owner + 1, mtime)
        elif kind == "folder":
            tarball.folder(name, mode, owner, owner + 1, mtime)
        else:
            tarball.link(name, target, mode, owner, owner + 1, mtime, hard=kind == "hard")
    tarball.close()
    assert len(made.getvalue()) % 10240 == 0
    made.seek(0)
    with tarfile.open(fileobj=made) as archive:
        seen = archive.getmembers()
        assert len(seen) == len(members)
        for info, (name, kind, content, mode, owner, mtime) in zip(seen, members, strict=True):
            assert (info.name, info.mode, info.uid, info.gid) == (name.rstrip("/"), mode, owner, owner + 1)
            exact = info.pax_headers.get("mtime") or str(int(info.mtime))
            assert Decimal(exact) == Decimal(mtime) / 10**9
            if kind == "file":
                file = archive.extractfile(info)
                assert file is not None and file.read() == content
            else:
                assert info.isdir() == (kind == "folder") and info.issym() == (kind == "link")
                assert kind == "folder" or info.linkname == content.hex()


def test_a_member_that_is_not_as_long_as_was_said_breaks_the_archive_off() -> None:
    with pytest.raises(OSError, match="3 bytes instead of 4"):
        Tarball(io.BytesIO()).file("a", 4, [b"abc"], 0o600)

#!/usr/bin/env python3
"""Read what lies in a place of Keen Harbor without Keen Harbor: with Python's own library and the programs age and
zstd.

    python3 rescue.py list FOLDER KEYFILE
    python3 rescue.py take FOLDER KEYFILE SNAPSHOT OUT

FOLDER is the place, or a copy of it. In it, NAME/states/ says what there is, and NAME/parcels/ holds it: age files
around tar archives of a store's files. Of these, packs hold objects, each under the BLAKE3 of its content:

    4 bytes KHO3 (or KHO2, KHO1) | 32 bytes name | 1 byte: 0 plain, 1 a zstd frame, 2 a zstd frame with another object
    as its dictionary, whose 32-byte name comes first | 8 bytes stored length | 8 bytes plain length (little-endian)
    | 8 bytes sum (not with KHO1), then the data;
or several small ones in one frame:
    4 bytes KHB1 | 4 bytes their number | 8 bytes stored length | 8 bytes plain length | for each 32 bytes name and
    4 bytes length | 8 bytes sum, then the frame.

A manifest (snapshots/ID.json) names the objects that hold the list of paths (document.tree.parts), each path with the
objects of its content, and those that hold the rows of each table (document.database.tables).

age vouches that nothing was changed since it was sealed. Who sealed it (the signature of the states) is checked by
Keen Harbor itself, not here."""

import base64
import hashlib
import json
import math
import os
import re
import shutil
import struct
import subprocess
import sys
import tarfile
import threading

HEAD = struct.Struct("<4s32sBQQ")
BUNDLE = struct.Struct("<4sIQQ")
MEMBER = struct.Struct("<32sI")
OLD_FIRST = ("schema", "extension", "collation", "type", "sequence", "function")


def stop(what):
    print("rescue: " + what, file=sys.stderr)
    sys.exit(1)


def program(*words, **given):
    """Run a program and give what it prints."""
    try:
        ran = subprocess.run(words, capture_output=True, **given)
    except FileNotFoundError:
        stop("the program '%s' is not on this machine; it is in the package list of your system" % words[0])
    if ran.returncode:
        raise ValueError(ran.stderr.decode(errors="replace").strip()[:300])
    return ran.stdout


def unpacked(file, key, into):
    """The files of a parcel, written below ``into``."""
    os.makedirs(into, exist_ok=True)
    plain = os.path.join(into, "parcel.tar")
    with open(plain, "wb") as out:
        out.write(program("age", "-d", "-i", key, file))
    with tarfile.open(plain, "r:") as tar:
        for item in tar:
            if not item.isreg() or item.name.startswith("/") or ".." in item.name.split("/"):
                raise ValueError("it holds what no parcel has")
            target = os.path.join(into, item.name)
            os.makedirs(os.path.dirname(target) or ".", exist_ok=True)
            with open(target, "wb") as out:
                shutil.copyfileobj(tar.extractfile(item), out)
    os.unlink(plain)


def states(folder, key, work):
    """By berth, what its states say: its parcels in order, and its snapshots."""
    found = {}
    for berth in sorted(os.listdir(folder)):
        place = os.path.join(folder, berth, "states")
        if not os.path.isdir(place):
            continue
        parcels, snapshots = {}, {}
        for name in sorted(os.listdir(place)):
            try:
                unpacked(os.path.join(place, name), key, work)
                with open(os.path.join(work, "state.json"), encoding="utf-8") as source:
                    said = json.load(source)
            except (ValueError, OSError, tarfile.TarError) as error:
                print("rescue: %s/states/%s: %s" % (berth, name, error), file=sys.stderr)
                continue
            if said["whole"]:
                parcels, snapshots = {}, {}
            parcels.update((p["name"], p) for p in said["parcels"])
            snapshots.update(said["snapshots"])
            for gone in said["dropped"]:
                parcels.pop(gone, None)
            for gone in said["gone"]:
                snapshots.pop(gone, None)
        if parcels:
            found[berth] = (parcels, snapshots)
    return found


def listed(folder, key, work):
    """Print what there is."""
    for berth, (_, snapshots) in states(folder, key, work).items():
        for name, said in sorted(snapshots.items(), key=lambda item: item[1]["taken_at"]):
            label = " '%s'" % said["label"] if said["label"] else ""
            print(
                "%s  %s%s  site %s, %d files, %.1f MB  (berth %s)"
                % (name, said["taken_at"], label, said["site"], said["files"], said["bytes"] / 1e6, berth)
            )


class Objects:
    """The objects of packs, unfolded into plain files."""

    def __init__(self, work):
        self.work, self.places, self.near = work, {}, {}

    def add(self, pack):
        """Walk a pack; what zstd has to do for it is done in one go."""
        frames, order = [], []
        with open(pack, "rb") as source:
            size = os.fstat(source.fileno()).st_size
            at = 0
            while at < size:
                source.seek(at)
                mark = source.read(4)
                source.seek(at)
                if mark == b"KHB1":
                    _, count, stored, plain = BUNDLE.unpack(source.read(BUNDLE.size))
                    members = [MEMBER.unpack(source.read(MEMBER.size)) for _ in range(count)]
                    at += BUNDLE.size + count * MEMBER.size + 8
                    frames.append((at, stored))
                    order.append((plain, [(n.hex(), length) for n, length in members]))
                elif mark in (b"KHO1", b"KHO2", b"KHO3"):
                    _, name, how, stored, plain = HEAD.unpack(source.read(HEAD.size))
                    at += HEAD.size + (0 if mark == b"KHO1" else 8)
                    if how == 0:
                        self.places[name.hex()] = (pack, at, plain)
                    elif how == 1:
                        frames.append((at, stored))
                        order.append((plain, [(name.hex(), plain)]))
                    else:
                        self.near[name.hex()] = (pack, at, stored)
                else:
                    raise ValueError("%s is damaged at byte %d" % (os.path.basename(pack), at))
                at += stored
        if not frames:
            return
        unfolded = pack + ".plain"
        with open(pack, "rb") as source, open(unfolded, "wb") as out:
            try:
                ran = subprocess.Popen(["zstd", "-dcq"], stdin=subprocess.PIPE, stdout=out)
            except FileNotFoundError:
                stop("the program 'zstd' is not on this machine; it is in the package list of your system")

            def feed():
                for start, length in frames:
                    source.seek(start)
                    ran.stdin.write(source.read(length))
                ran.stdin.close()

            feeder = threading.Thread(target=feed)
            feeder.start()
            feeder.join()
            if ran.wait():
                raise ValueError("zstd cannot read %s" % os.path.basename(pack))
        start = 0
        for plain, members in order:
            for name, length in members:
                self.places[name] = (unfolded, start, length)
                start += length
            start += plain - sum(length for _, length in members)

    def read(self, name):
        """The content of an object."""
        if name in self.places:
            file, at, length = self.places[name]
            with open(file, "rb") as source:
                source.seek(at)
                return source.read(length)
        if name not in self.near:
            raise ValueError("the object %s is in none of the parcels" % name[:12])
        file, at, stored = self.near[name]
        with open(file, "rb") as source:
            source.seek(at)
            data = source.read(stored)
        dictionary = os.path.join(self.work, "dictionary")
        with open(dictionary, "wb") as out:
            out.write(self.read(data[:32].hex()))
        return program("zstd", "-dcq", "-D", dictionary, input=data[32:])


def gathered(parcels, said, folder, key, work, snapshot):
    """The store's files that a snapshot needs, below ``work``; what of them could not be had."""
    wanted = {"packs/%s/%s" % (p[:2], p) for p in said["packs"]}
    wanted.add("snapshots/%s.json" % snapshot)
    newest, missing = {}, []
    for parcel in parcels.values():
        for path, _size, _sum, part, parts in parcel["members"]:
            if path in wanted or path.startswith("papers/"):
                known = newest.setdefault(path, {})
                if parts == 1 or any(len(k) and k[1] != parts for k in known):
                    known.clear()
                known[(part, parts)] = parcel["name"]
    for number, name in enumerate(sorted({n for known in newest.values() for n in known.values()})):
        try:
            unpacked(os.path.join(folder, name), key, os.path.join(work, "parcels", str(number)))
        except (ValueError, OSError, tarfile.TarError) as error:
            missing.append("%s: %s" % (name, error))
            continue
        for path, known in newest.items():
            for (part, parts), parcel in known.items():
                if parcel == name:
                    member = path if parts == 1 else "%s.%05d" % (path, part)
                    target = os.path.join(work, member)
                    os.makedirs(os.path.dirname(target), exist_ok=True)
                    shutil.move(os.path.join(work, "parcels", str(number), member), target)
        shutil.rmtree(os.path.join(work, "parcels", str(number)))
    packs = []
    for path in sorted(p for p in newest if p.startswith("packs/")):
        whole = os.path.join(work, path)
        if not os.path.exists(whole):
            parts = sorted(f for f in os.listdir(os.path.dirname(whole)) if f.startswith(os.path.basename(path) + "."))
            with open(whole, "wb") as out:
                for part in parts:
                    with open(os.path.join(os.path.dirname(whole), part), "rb") as source:
                        shutil.copyfileobj(source, out)
        packs.append(whole)
    missing += ["%s is in no parcel" % w for w in sorted(wanted - set(newest))]
    return packs, missing


def taken(folder, key, snapshot, out, work):
    """Write a snapshot's files and database."""
    found = [(p, s[snapshot]) for p, s in states(folder, key, work).values() if snapshot in s]
    if not found:
        stop("there is no snapshot '%s' here that this key opens; 'list' shows what there is" % snapshot)
    packs, missing = gathered(*found[0], folder, key, work, snapshot)
    objects = Objects(work)
    for pack in packs:
        try:
            objects.add(pack)
        except ValueError as error:
            missing.append(str(error))
    with open(os.path.join(work, "snapshots", snapshot + ".json"), encoding="utf-8") as source:
        manifest = json.load(source)["document"]
    for paper in (
        sorted(os.listdir(os.path.join(work, "papers"))) if os.path.isdir(os.path.join(work, "papers")) else []
    ):
        shutil.copyfile(os.path.join(work, "papers", paper), os.path.join(out, paper))
    sums = {}
    missing += write_files(manifest, objects, os.path.join(out, "files"), sums)
    missing += write_database(manifest, objects, out, sums)
    with open(os.path.join(out, "SHA256SUMS"), "wb") as lines:
        for name, digest in sums.items():
            odd = "\\" in name or "\n" in name
            shown = name.replace("\\", "\\\\").replace("\n", "\\n") if odd else name
            lines.write((("\\" if odd else "") + digest + "  " + shown + "\n").encode("utf-8", "surrogateescape"))
    for what in missing:
        print("rescue: missing: %s" % what, file=sys.stderr)
    print("%s: %d files and the database are in %s" % (snapshot, len(sums), out))
    return 1 if missing else 0


def write_files(manifest, objects, out, sums):
    """The site's files, with rights and times; what could not be written."""
    missing, folders = [], []
    tree = manifest["tree"]
    entries = tree if isinstance(tree, list) else [e for p in tree["parts"] for e in json.loads(objects.read(p[0]))]
    os.makedirs(out, exist_ok=True)
    for path, kind, mode, mtime, _size, _area, target, pieces, *rest in entries:
        parts = path.split("/")
        if ".." in parts or path.startswith("/"):
            missing.append("%r leads out of the folder" % path)
            continue
        place = os.path.join(out, path) if path else out
        if kind == "folder":
            os.makedirs(place, exist_ok=True)
            folders.append((place, mode, mtime))
            continue
        os.makedirs(os.path.dirname(place), exist_ok=True)
        if kind == "link":
            os.symlink(target, place)
            continue
        same_as = rest[3] if len(rest) > 3 else None
        if same_as:
            os.link(os.path.join(out, same_as), place)
            sums["files/" + path] = sums.get("files/" + same_as, "")
            continue
        digest = hashlib.sha256()
        try:
            with open(place, "wb") as target_file:
                for piece in pieces:
                    content = objects.read(piece)
                    digest.update(content)
                    target_file.write(content)
        except ValueError as error:
            missing.append("files/%s: %s" % (path, error))
            continue
        os.chmod(place, mode)
        os.utime(place, ns=(mtime, mtime))
        sums["files/" + path] = digest.hexdigest()
    for place, mode, mtime in reversed(folders):
        os.chmod(place, mode | 0o700)
        os.utime(place, ns=(mtime, mtime))
    return missing


# -- the database as SQL for its own client -------------------------------------------------------------------


def write_database(manifest, objects, out, sums):
    """``database.sql``, and what to type; what of it could not be had."""
    schema, missing = manifest["database"]["schema"], []
    engine = schema["engine"]
    if engine not in ENGINES:
        return missing
    chunks = {}
    for table in manifest["database"]["tables"]:
        names = table.get("chunks") or []
        if table.get("chunks_in"):
            names = json.loads(objects.read(table["chunks_in"]))
        chunks[table["name"]] = [n[0] if isinstance(n, list) else n for n in names]
    name = os.path.join(out, "database.sql")
    digest = hashlib.sha256()

    def rows(table):
        for chunk in chunks.get(table["name"], ()):
            try:
                content = objects.read(chunk)
            except ValueError as error:
                missing.append("rows of %s: %s" % (table["name"], error))
                continue
            if content:
                yield content

    with open(name, "wb") as target:
        for text in ENGINES[engine][0](schema, rows):
            data = text if isinstance(text, bytes) else text.encode("utf-8", "surrogateescape")
            digest.update(data)
            target.write(data)
    sums["database.sql"] = digest.hexdigest()
    with open(os.path.join(out, "READ ME.txt"), "w", encoding="utf-8") as target:
        target.write("The database, into an empty one:\n\n    %s\n" % ENGINES[engine][1])
    return missing


def double(name):
    return '"' + name.replace('"', '""') + '"'


def back(name):
    return "`" + name.replace("`", "``") + "`"


def inserts(head, values):
    """INSERT statements of a bounded size."""
    batch, size = [], 0
    for value in values:
        batch.append(value)
        size += len(value)
        if len(batch) >= 500 or size >= 512 * 1024:
            yield head + ",\n".join(batch) + ";\n"
            batch, size = [], 0
    if batch:
        yield head + ",\n".join(batch) + ";\n"


def sqlite_text(schema, rows):
    encoding = schema.get("settings", {}).get("encoding", "UTF-8")
    yield "PRAGMA foreign_keys = OFF;\nPRAGMA encoding = '%s';\nBEGIN;\n" % encoding
    for table in schema["tables"]:
        if table.get("kind", "table") in ("table", "virtual"):
            yield table["ddl"] + ";\n"
    for table in schema["tables"]:
        if table.get("kind") == "virtual":
            continue
        if table.get("kind") in ("shadow", "internal"):
            yield "DELETE FROM %s;\n" % double(table["name"])
        head = "INSERT INTO %s (%s) VALUES\n" % (double(table["name"]), ", ".join(double(c) for c in table["columns"]))
        yield from inserts(
            head,
            ("(" + ", ".join(sqlite_value(v) for v in json.loads(line)) + ")"
             for content in rows(table) for line in content.splitlines()),
        )  # fmt: skip
    for _, _, ddl in schema.get("objects", ()):
        yield ddl + ";\n"
    yield "COMMIT;\n"
    for name in ("user_version", "application_id"):
        yield "PRAGMA %s = %d;\n" % (name, int(schema.get("settings", {}).get(name) or 0))


def sqlite_value(value):
    if value is None:
        return "NULL"
    if isinstance(value, dict):
        ((kind, text),) = value.items()
        if kind == "f":
            number = float(text)
            return "NULL" if math.isnan(number) else ("9e999" if number > 0 else "-9e999")
        raw = base64.b64decode(text)
        return "X'%s'" % raw.hex() if kind == "b" else "CAST(X'%s' AS TEXT)" % raw.hex()
    if isinstance(value, str):
        if "\0" in value:
            return "CAST(X'%s' AS TEXT)" % value.encode().hex()
        return "'" + value.replace("'", "''") + "'"
    return repr(value)


MODE = "NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES,NO_ENGINE_SUBSTITUTION"


def mariadb_text(schema, rows):
    yield (
        "SET NAMES utf8mb4;\nSET time_zone = '+00:00', foreign_key_checks = 0, unique_checks = 0;\n"
        "SET sql_mode = '%s';\nSET @usual_collation = @@collation_connection;\n" % MODE
    )
    for kind, _, ddl in schema.get("objects", ()):
        if kind in ("sequence", "function"):
            yield mariadb_object(ddl)
    for table in schema["tables"]:
        yield table["ddl"] + ";\n"
    for table in schema["tables"]:
        head = "INSERT INTO %s (%s) VALUES\n" % (back(table["name"]), ", ".join(back(c) for c in table["columns"]))
        kinds = list(zip(table["kinds"], table["read_as"]))
        yield from inserts(
            head,
            ("(" + ", ".join(mariadb_value(f, k, a) for f, (k, a) in zip(line.split("\t"), kinds)) + ")"
             for content in rows(table)
             for line in content[:-1].decode("utf-8", "surrogateescape").split("\n")),
        )  # fmt: skip
    for what, value in schema.get("counters", {}).items():
        kind, _, name = what.partition(" ")
        if kind == "sequence":
            yield "SELECT SETVAL(%s, %d, 0);\n" % (back(name), int(value[0]))
        else:
            yield "ALTER TABLE %s AUTO_INCREMENT = %d;\n" % (back(name), int(value[0]))
    for kind, _, ddl in schema.get("objects", ()):
        if kind not in ("sequence", "function"):
            yield mariadb_object(ddl)
    yield "SET foreign_key_checks = 1, unique_checks = 1;\n"


def mariadb_object(ddl):
    if not ddl.startswith("SET "):
        return ddl + ";\n"
    before, create = ddl.split("\n", 1)
    after = "SET sql_mode = '%s', collation_connection = @usual_collation, time_zone = '+00:00';" % MODE
    return "%s\nDELIMITER $$\n%s$$\nDELIMITER ;\n%s\n" % (before, create, after)


def mariadb_value(field, kind, how):
    if field == "\\N":
        return "NULL"
    if kind == "bytes":
        charset = re.sub("^hex", "", how).strip()
        value = "0x" + field if field else "''"
        return "CONVERT(%s USING %s)" % (value, charset) if charset else value
    if kind in ("int", "float"):
        return field
    return "'" + field.replace("'", "\\'").replace("\r", "\\r").replace("\0", "\\0") + "'"


def postgres_text(schema, rows):
    yield (
        "SET client_encoding = 'UTF8';\nSET standard_conforming_strings = on;\nSET check_function_bodies = off;\n"
        "SET client_min_messages = warning;\nSET TimeZone = 'UTC';\n"
        "SELECT pg_catalog.set_config('search_path', '', false);\n"
    )
    for kind, _, ddl in schema.get("objects", ()):
        if kind in OLD_FIRST:
            yield ddl + ";\n"
    for table in schema["tables"]:
        yield table["ddl"] + ";\n"
    for table in schema["tables"]:
        bare = table["name"]
        if table.get("namespace"):
            bare = bare[len(table["namespace"]) + 1 :]
        if bare.startswith('"'):
            bare = bare[1:-1]
        columns = ", ".join(double(c) for c in table["columns"])
        where = "%s.%s" % (double(table.get("namespace") or "public"), double(bare))
        begun = False
        for content in rows(table):
            if not begun:
                yield "COPY %s (%s) FROM stdin;\n" % (where, columns)
                begun = True
            yield content
        if begun:
            yield "\\.\n"
    for kind, _, ddl in schema.get("objects", ()):
        if kind not in OLD_FIRST:
            yield ddl + ";\n"
    for what, value in schema.get("counters", {}).items():
        name = re.sub("^sequence ", "", what)
        literal = "'" + name.replace("'", "''") + "'"
        if "\\" in name:
            literal = "E" + literal.replace("\\", "\\\\")
        yield "SELECT pg_catalog.setval(%s, %d, %s);\n" % (literal, int(value[0]), str(bool(value[1])).lower())


ENGINES = {
    "sqlite": (sqlite_text, "sqlite3 NEW.sqlite < database.sql"),
    "mariadb": (mariadb_text, "mariadb NEW_DATABASE < database.sql"),
    "postgres": (postgres_text, "psql -v ON_ERROR_STOP=1 NEW_DATABASE < database.sql"),
}


def main(words):
    if len(words) not in (3, 5) or words[0] != {3: "list", 5: "take"}[len(words)]:
        stop("type: rescue.py list FOLDER KEYFILE, or rescue.py take FOLDER KEYFILE SNAPSHOT OUT")
    folder, key = words[1], words[2]
    if not os.path.isdir(folder) or not os.path.isfile(key):
        stop("'%s' is no folder, or '%s' is no file" % (folder, key))
    out = words[4] if len(words) == 5 else "."
    if len(words) == 5:
        if os.path.exists(out) and os.listdir(out):
            stop("'%s' is not empty" % out)
        os.makedirs(out, exist_ok=True)
    work = os.path.join(out, ".rescue-%d" % os.getpid())
    os.makedirs(work, 0o700)
    try:
        if len(words) == 3:
            listed(folder, key, work)
            return 0
        return taken(folder, key, words[3], out, work)
    finally:
        shutil.rmtree(work, ignore_errors=True)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))

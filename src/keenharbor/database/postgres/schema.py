"""How a PostgreSQL database is made, as DDL in the order in which it can be made again."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from typing import Any, NamedTuple

from keenharbor.database.postgres.wire import Connection, literal_of, name_of, ours_in, run_statement
from keenharbor.database.protocol import (
    ColumnKind,
    Definition,
    Schema,
    Table,
    Value,
)
from keenharbor.database.words import double_quoted as quote

_KINDS: dict[str, ColumnKind] = {
    "int2": "int", "int4": "int", "int8": "int", "oid": "int", "float4": "float", "float8": "float", "bool": "bool",
    "bytea": "bytes",
}  # fmt: skip


_NO_EQUALITY = {"json", "xml", "point", "box", "polygon", "path", "line", "lseg", "circle"}


class _Column(NamedTuple):
    """A column as the catalogue tells it; ``own`` says that it is not only inherited, ``generated`` and ``identity``
    are letters of the catalogue, empty for neither."""

    name: str
    shown_type: str
    type_name: str
    needed: bool
    generated: str
    identity: str
    expression: str | None
    collation: str | None
    collated: bool
    own: bool


def _table(name: str, namespace: str, ddl: str, stored: list[_Column], key: tuple[str, ...] | None) -> Table:
    key = key or tuple(c.name for c in stored)
    order = sorted(stored, key=lambda c: key.index(c.name) if c.name in key else len(key))
    return Table(
        name, tuple(c.name for c in order), key, ddl, kinds=tuple(_KINDS.get(c.type_name, "text") for c in order),
        read_as=tuple("bytea" if c.type_name == "bytea" else "collated" if c.collated else "" for c in order),
        namespace=namespace, row_format="copy",
    )  # fmt: skip


class SchemaReader:
    """Reads everything that is defined in a database; what it cannot give back it names."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._objects: list[Definition] = []
        self._not_kept: list[str] = []
        self._owners: dict[str, str] = {}
        self._rights: list[tuple[str, str]] = []
        self._counters: dict[str, list[int]] = {}
        self._identity: dict[str, str] = {}
        """By column: the options of the sequence behind an identity column."""
        self._later: list[Definition] = []
        """Objects that need the tables."""

    def _rows(self, text: str) -> list[tuple[Any, ...]]:
        return run_statement(self._connection, text).fetchall()

    def _add(self, kind: str, name: str, ddl: str) -> None:
        self._objects.append(Definition(kind, name, ddl.rstrip().rstrip(";")))

    def read(self) -> Schema:
        version = str(self._connection.info.parameter_status("server_version")).split()[0]
        self._namespaces()
        self._types()
        self._sequences()
        self._functions()
        tables = self._tables()
        self._constraints_and_indexes()
        self._views()
        self._triggers()
        self._comments()
        self._owners_and_rights()
        self._what_is_not_kept()
        settings: dict[str, Value] = {
            "encoding": str(self._connection.info.parameter_status("server_encoding")),
            "owners": json.dumps(self._owners, sort_keys=True),
            "rights": json.dumps(self._rights),
            "options": json.dumps([o for (o,) in self._rows(
                "SELECT unnest(setconfig) FROM pg_db_role_setting r JOIN pg_database d ON d.oid = r.setdatabase "
                "WHERE d.datname = current_database() AND r.setrole = 0 ORDER BY 1"
            )]),
        }  # fmt: skip
        return Schema(
            "postgres", version, tuple(tables), tuple(self._objects), settings, tuple(self._not_kept), self._counters
        )

    def _namespaces(self) -> None:
        for (name,) in self._rows(
            f"SELECT n.nspname FROM pg_namespace n WHERE n.nspname <> 'public' AND {ours_in('pg_namespace', 'n.oid')} "
            f"ORDER BY 1"
        ):
            self._add("schema", name, f"CREATE SCHEMA {quote(name)}")
        for name, namespace in self._rows(
            "SELECT e.extname, n.nspname FROM pg_extension e JOIN pg_namespace n ON n.oid = e.extnamespace "
            "WHERE e.extname <> 'plpgsql' ORDER BY e.oid"
        ):
            where = "" if namespace == "pg_catalog" else f" SCHEMA {quote(namespace)}"
            self._add("extension", name, f"CREATE EXTENSION IF NOT EXISTS {quote(name)}{where}")

    def _types(self) -> None:
        for namespace, name, provider, collate, deterministic in self._rows(
            "SELECT n.nspname, c.collname, c.collprovider::text, to_jsonb(c), c.collisdeterministic FROM pg_collation "
            "c "
            f"JOIN pg_namespace n ON n.oid = c.collnamespace WHERE {ours_in('pg_collation', 'c.oid')} ORDER BY c.oid"
        ):
            full = f"{quote(namespace)}.{quote(name)}"
            locale = collate.get("colliculocale") or collate.get("colllocale") or collate.get("collcollate")
            word = {"i": "icu", "c": "libc"}.get(provider, "libc")
            options = f"provider = {word}, locale = {literal_of(locale)}, deterministic = {str(deterministic).lower()}"
            self._add("collation", full, f"CREATE COLLATION {full} ({options})")
        for oid, full, kind in self._rows(
            "SELECT t.oid, format('%I.%I', n.nspname, t.typname), t.typtype::text FROM pg_type t "
            "JOIN pg_namespace n ON n.oid = t.typnamespace LEFT JOIN pg_class c ON c.oid = t.typrelid "
            f"WHERE (t.typtype IN ('e', 'd', 'r') OR (t.typtype = 'c' AND c.relkind = 'c')) AND "
            f"{ours_in('pg_type', 't.oid')} "
            "ORDER BY t.oid"
        ):
            self._add("type", full, getattr(self, f"_type_{kind}")(oid, full))
        for (full,) in self._rows(
            "SELECT format_type(t.oid, NULL) FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace "
            f"WHERE t.typtype = 'b' AND t.typcategory <> 'A' AND {ours_in('pg_type', 't.oid')}"
        ):
            self._not_kept.append(f"base type {full}")

    def _type_e(self, oid: int, full: str) -> str:
        labels = self._rows(f"SELECT enumlabel FROM pg_enum WHERE enumtypid = {oid} ORDER BY enumsortorder")
        return f"CREATE TYPE {full} AS ENUM ({', '.join(literal_of(label) for (label,) in labels)})"

    def _type_c(self, oid: int, full: str) -> str:
        parts = self._rows(
            "SELECT format('%I %s', a.attname, format_type(a.atttypid, a.atttypmod)) FROM pg_attribute a "
            f"JOIN pg_type t ON t.typrelid = a.attrelid WHERE t.oid = {oid} AND a.attnum > 0 AND NOT a.attisdropped "
            "ORDER BY a.attnum"
        )
        return f"CREATE TYPE {full} AS ({', '.join(p for (p,) in parts)})"

    def _type_d(self, oid: int, full: str) -> str:
        base, collation, needed, default = self._rows(
            "SELECT format_type(t.typbasetype, t.typtypmod), CASE WHEN t.typcollation <> b.typcollation THEN "
            "(SELECT format(' COLLATE %I.%I', n.nspname, c.collname) FROM pg_collation c JOIN pg_namespace n "
            "ON n.oid = c.collnamespace WHERE c.oid = t.typcollation) END, t.typnotnull, t.typdefault "
            f"FROM pg_type t JOIN pg_type b ON b.oid = t.typbasetype WHERE t.oid = {oid}"
        )[0]
        checks = self._rows(
            "SELECT format(' CONSTRAINT %I %s', conname, pg_get_constraintdef(oid)) FROM pg_constraint "
            f"WHERE contypid = {oid} AND contype = 'c' ORDER BY conname"
        )
        more = (f" DEFAULT {default}" if default is not None else "") + (" NOT NULL" if needed else "")
        return f"CREATE DOMAIN {full} AS {base}{collation or ''}{more}{''.join(c for (c,) in checks)}"

    def _type_r(self, oid: int, full: str) -> str:
        subtype, multirange = self._rows(
            "SELECT format_type(r.rngsubtype, NULL), to_jsonb(r) ->> 'rngmultitypid' FROM pg_range r "
            f"WHERE r.rngtypid = {oid}"
        )[0]
        more = ""
        if multirange:
            named = self._rows(
                f"SELECT format('%I.%I', n.nspname, t.typname) FROM pg_type t JOIN pg_namespace n ON n.oid = "
                f"t.typnamespace "
                f"WHERE t.oid = {multirange}"
            )[0][0]
            more = f", MULTIRANGE_TYPE_NAME = {named}"
        return f"CREATE TYPE {full} AS RANGE (SUBTYPE = {subtype}{more})"

    def _sequences(self) -> None:
        for full, kind, start, step, least, most, cache, cycle, owner, identity in self._rows(
            "SELECT format('%I.%I', n.nspname, c.relname), format_type(s.seqtypid, NULL), s.seqstart, s.seqincrement, "
            "s.seqmin, s.seqmax, s.seqcache, s.seqcycle, (SELECT format('%I.%I.%I', tn.nspname, t.relname, a.attname) "
            "FROM pg_depend d JOIN pg_class t ON t.oid = d.refobjid JOIN pg_namespace tn ON tn.oid = t.relnamespace "
            "JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = d.refobjsubid WHERE d.classid = "
            "'pg_class'::regclass "
            "AND d.objid = c.oid AND d.deptype IN ('a', 'i') AND d.refclassid = 'pg_class'::regclass AND d.refobjsubid "
            "> 0), "
            "EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND "
            "d.deptype = 'i') "
            "FROM pg_sequence s JOIN pg_class c ON c.oid = s.seqrelid JOIN pg_namespace n ON n.oid = c.relnamespace "
            f"WHERE {ours_in('pg_class', 'c.oid')} ORDER BY 1"
        ):
            options = (
                f"START WITH {start} INCREMENT BY {step} MINVALUE {least} MAXVALUE {most} CACHE {cache}"
                f"{' CYCLE' if cycle else ' NO CYCLE'}"
            )
            last, called = self._rows(f"SELECT last_value, is_called FROM {full}")[0]
            self._counters[f"sequence {full}"] = [last, called]
            if identity:
                self._identity[owner] = f"SEQUENCE NAME {full} {options}"
                continue
            self._add("sequence", full, f"CREATE SEQUENCE {full} AS {kind} {options}")
            if owner:
                self._later.append(Definition("owned sequence", full, f"ALTER SEQUENCE {full} OWNED BY {owner}"))

    def _functions(self) -> None:
        for name, ddl in self._rows(
            "SELECT p.oid::regprocedure::text, pg_get_functiondef(p.oid) FROM pg_proc p "
            f"JOIN pg_namespace n ON n.oid = p.pronamespace WHERE p.prokind <> 'a' AND {ours_in('pg_proc', 'p.oid')} "
            # A range type brings its own.
            "AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_proc'::regclass AND d.objid = p.oid "
            "AND d.deptype = 'i') ORDER BY p.oid"
        ):
            self._add("function", name, ddl)

    def _tables(self) -> list[Table]:
        keys, columns, parents = self._keys(), self._columns(), self._parents()
        tables = []
        for oid, namespace, bare, *make_up in self._rows(
            "SELECT c.oid, n.nspname, c.relname, CASE WHEN c.relkind = 'p' THEN pg_get_partkeydef(c.oid) END, "
            "c.relpersistence = 'u', c.reloptions, (SELECT tc.reloptions FROM pg_class tc WHERE tc.oid = "
            "c.reltoastrelid), "
            "(SELECT am.amname FROM pg_am am WHERE am.oid = c.relam AND am.amname <> 'heap') "
            "FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
            f"WHERE c.relkind IN ('r', 'p') AND c.relpersistence <> 't' AND {ours_in('pg_class', 'c.oid')} ORDER BY "
            f"c.oid"
        ):
            listed = columns.get(oid, [])
            ddl = self._table_ddl(namespace, bare, listed, parents.get(oid, ()), *make_up)
            tables.append(_table(*name_of(namespace, bare), ddl, [c for c in listed if not c.generated], keys.get(oid)))
        return tables

    def _keys(self) -> dict[int, tuple[str, ...]]:
        """By table: the columns that tell rows apart, of the primary key or else of a unique one without nulls."""
        return {
            oid: tuple(names)
            for oid, names in self._rows(
                "SELECT DISTINCT ON (i.indrelid) i.indrelid, (SELECT array_agg(a.attname::text ORDER BY k.n) FROM "
                "unnest(i.indkey::int2[]) WITH ORDINALITY k (attnum, n) JOIN pg_attribute a ON a.attrelid = i.indrelid "
                "AND a.attnum = k.attnum WHERE k.n <= i.indnkeyatts) FROM pg_index i WHERE i.indisunique AND "
                "i.indisvalid "
                "AND i.indpred IS NULL AND i.indexprs IS NULL AND NOT EXISTS (SELECT 1 FROM unnest(i.indkey::int2[]) "
                "WITH ORDINALITY k (attnum, n) JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum "
                "WHERE k.n <= i.indnkeyatts AND (NOT a.attnotnull OR a.attgenerated <> '')) "
                "ORDER BY i.indrelid, i.indisprimary DESC, i.indexrelid"
            )
        }

    def _columns(self) -> dict[int, list[_Column]]:
        columns: dict[int, list[_Column]] = {}
        for table, *facts in self._rows(
            "SELECT a.attrelid, a.attname, format_type(a.atttypid, a.atttypmod), t.typname, a.attnotnull, "
            "a.attgenerated::text, "
            "a.attidentity::text, pg_get_expr(d.adbin, d.adrelid), CASE WHEN a.attcollation <> t.typcollation THEN "
            "(SELECT format(' COLLATE %I.%I', cn.nspname, co.collname) FROM pg_collation co JOIN pg_namespace cn "
            "ON cn.oid = co.collnamespace WHERE co.oid = a.attcollation) ELSE '' END, a.attcollation <> 0, "
            "a.attislocal OR c.relispartition "
            "FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace "
            "JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = "
            "a.attnum "
            f"WHERE a.attnum > 0 AND NOT a.attisdropped AND c.relkind IN ('r', 'p') AND {ours_in('pg_class', 'c.oid')} "
            "ORDER BY a.attrelid, a.attnum"
        ):
            columns.setdefault(table, []).append(_Column(*facts))
        return columns

    def _parents(self) -> dict[int, tuple[str, ...]]:
        return dict(
            self._rows(
                "SELECT i.inhrelid, array_agg(format('%I.%I', pn.nspname, p.relname) ORDER BY i.inhseqno) FROM "
                "pg_inherits i "
                "JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_class p ON p.oid = i.inhparent "
                "JOIN pg_namespace pn ON pn.oid = p.relnamespace WHERE NOT c.relispartition AND c.relkind = 'r' GROUP "
                "BY 1"
            )
        )

    def _table_ddl(
        self, namespace: str, bare: str, columns: Sequence[_Column], parents: Sequence[str], partitioned: str | None,
        unlogged: bool, options: Sequence[str] | None, toast: Sequence[str] | None, method: str | None,
    ) -> str:  # fmt: skip
        own = (self._column(f"{plain_name(namespace)}.{plain_name(bare)}", c) for c in columns if c.own)
        with_options = [*(options or ()), *(f"toast.{o}" for o in toast or ())]
        ddl = f"CREATE {'UNLOGGED ' if unlogged else ''}TABLE {quote(namespace)}.{quote(bare)} (\n  "
        ddl += ",\n  ".join(own) + "\n)"
        ddl += f" INHERITS ({', '.join(parents)})" if parents else ""
        ddl += f" PARTITION BY {partitioned}" if partitioned else ""
        ddl += f" USING {quote(method)}" if method else ""
        ddl += f" WITH ({', '.join(with_options)})" if with_options else ""
        return ddl

    def _column(self, table: str, column: _Column) -> str:
        text = f"{quote(column.name)} {column.shown_type}{column.collation or ''}"
        if column.generated == "s":
            text += f" GENERATED ALWAYS AS ({column.expression}) STORED"
        elif column.identity:
            options = self._identity.get(f"{table}.{plain_name(column.name)}", "")
            text += f" GENERATED {'ALWAYS' if column.identity == 'a' else 'BY DEFAULT'} AS IDENTITY" + (
                f" ({options})" if options else ""
            )
        elif column.expression is not None:
            text += f" DEFAULT {column.expression}"
        return text + (" NOT NULL" if column.needed else "")

    def _constraints_and_indexes(self) -> None:
        found = self._rows(
            "SELECT c.contype::text, format('%I.%I', n.nspname, r.relname), c.conname, pg_get_constraintdef(c.oid), "
            "r.relkind::text, c.conparentid FROM pg_constraint c JOIN pg_class r ON r.oid = c.conrelid "
            f"JOIN pg_namespace n ON n.oid = r.relnamespace WHERE c.contype <> 't' AND c.contype <> 'n' "
            f"AND (c.conislocal OR r.relispartition) AND {ours_in('pg_class', 'r.oid')} ORDER BY 2, 3"
        )
        made = {
            kinds: [
                ("constraint", f"{name} on {table}", f"ALTER TABLE ONLY {table} ADD CONSTRAINT {quote(name)} {ddl}")
                for kind, table, name, ddl, relkind, parent in found
                if kind in kinds[0] and relkind == kinds[1] and not (kind == "f" and parent)
            ]
            for kinds in (("puxc", "r"), ("f", "r"), ("puxc", "p"), ("f", "p"))
        }
        indexes = {
            relkind: [
                ("index", name, ddl)
                for name, ddl, kind in self._rows(
                    "SELECT format('%I.%I', n.nspname, c.relname), pg_get_indexdef(i.indexrelid), r.relkind::text "
                    "FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_class r ON r.oid = i.indrelid "
                    "JOIN pg_namespace n ON n.oid = c.relnamespace WHERE r.relkind IN ('r', 'p') AND NOT EXISTS "
                    "(SELECT 1 FROM pg_constraint k WHERE k.conindid = i.indexrelid AND k.contype IN ('p', 'u', 'x')) "
                    f"AND {ours_in('pg_class', 'r.oid')} ORDER BY 1"
                )
                if kind == relkind
            ]
            for relkind in ("r", "p")
        }
        inherited = [
            ("partition", f"{child} of {parent}", f"ALTER TABLE ONLY {parent} ATTACH PARTITION {child} {bound}")
            for child, parent, bound in self._rows(
                "SELECT format('%I.%I', n.nspname, c.relname), format('%I.%I', pn.nspname, p.relname), "
                "pg_get_expr(c.relpartbound, c.oid) FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid "
                "JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_class p ON p.oid = i.inhparent "
                "JOIN pg_namespace pn ON pn.oid = p.relnamespace WHERE c.relispartition AND c.relkind IN ('r', 'p') "
                f"AND {ours_in('pg_class', 'c.oid')} ORDER BY i.inhrelid, i.inhseqno"
            )
        ]  # fmt: skip
        # A parent's keys take in the children's, once these are attached.
        parents = [(k, n, d.replace("ALTER TABLE ONLY", "ALTER TABLE", 1)) for k, n, d in made["puxc", "p"]]
        parent_indexes = [(k, n, d.replace(" ON ONLY ", " ON ", 1)) for k, n, d in indexes["p"]]
        for ordered in (
            made["puxc", "r"], indexes["r"], self._later, inherited, parents, parent_indexes, made["f", "r"],
            [(k, n, d.replace("ALTER TABLE ONLY", "ALTER TABLE", 1)) for k, n, d in made["f", "p"]],
        ):  # fmt: skip
            self._objects += [Definition(*o) for o in ordered]
        for name, ddl in self._rows(
            "SELECT format('%I.%I', n.nspname, s.stxname), pg_get_statisticsobjdef(s.oid) FROM pg_statistic_ext s "
            f"JOIN pg_namespace n ON n.oid = s.stxnamespace WHERE {ours_in('pg_statistic_ext', 's.oid')} ORDER BY 1"
        ):
            self._add("statistics", name, ddl)

    def _views(self) -> None:
        for name, kind, ddl, options, filled in self._rows(
            "SELECT format('%I.%I', n.nspname, c.relname), c.relkind::text, pg_get_viewdef(c.oid), c.reloptions, "
            "c.relispopulated FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
            f"WHERE c.relkind IN ('v', 'm') AND {ours_in('pg_class', 'c.oid')} ORDER BY c.oid"
        ):
            with_options = f" WITH ({', '.join(options)})" if options else ""
            if kind == "v":
                self._add("view", name, f"CREATE VIEW {name}{with_options} AS {ddl}")
                continue
            data = "DATA" if filled else "NO DATA"
            self._add(
                "materialized view", name,
                f"CREATE MATERIALIZED VIEW {name}{with_options} AS {ddl.rstrip().rstrip(';')} WITH {data}",
            )  # fmt: skip
        for name, ddl in self._rows(
            "SELECT format('%I.%I', n.nspname, c.relname), pg_get_indexdef(i.indexrelid) FROM pg_index i "
            "JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_class r ON r.oid = i.indrelid "
            f"JOIN pg_namespace n ON n.oid = c.relnamespace WHERE r.relkind = 'm' AND {ours_in('pg_class', 'r.oid')} "
            f"ORDER BY 1"
        ):
            self._add("index", name, ddl)
        for name, ddl in self._rows(
            "SELECT format('%s on %I.%I', r.rulename, n.nspname, c.relname), pg_get_ruledef(r.oid) FROM pg_rewrite r "
            "JOIN pg_class c ON c.oid = r.ev_class JOIN pg_namespace n ON n.oid = c.relnamespace "
            f"WHERE r.rulename <> '_RETURN' AND {ours_in('pg_class', 'c.oid')} ORDER BY 1"
        ):
            self._add("rule", name, ddl)

    def _triggers(self) -> None:
        for name, table, ddl, enabled in self._rows(
            "SELECT t.tgname, format('%I.%I', n.nspname, c.relname), pg_get_triggerdef(t.oid), t.tgenabled::text "
            "FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace "
            "WHERE NOT t.tgisinternal AND COALESCE(to_jsonb(t) ->> 'tgparentid', '0') = '0' "
            f"AND {ours_in('pg_class', 'c.oid')} ORDER BY 2, 1"
        ):
            self._add("trigger", f"{name} on {table}", ddl)
            word = {"D": "DISABLE", "R": "ENABLE REPLICA", "A": "ENABLE ALWAYS"}.get(enabled)
            if word:
                self._add("trigger state", f"{name} on {table}", f"ALTER TABLE {table} {word} TRIGGER {quote(name)}")

    def _comments(self) -> None:
        for kind, identity, text in self._rows(
            "SELECT i.type, i.identity, d.description FROM pg_description d, "
            "LATERAL pg_identify_object(d.classoid, d.objoid, d.objsubid) i "
            "WHERE d.classoid::regclass::text = ANY "
            "('{pg_class,pg_proc,pg_type,pg_constraint,pg_trigger,pg_namespace,pg_rewrite,"
            "pg_statistic_ext,pg_collation}') AND COALESCE(i.schema, '') !~ '^(pg_|information_schema$)' "
            "AND i.identity !~ '(^| on )(pg_|information_schema($|[.]))' "
            "AND (i.identity, d.description) <> ('public', 'standard public schema') AND NOT EXISTS "
            "(SELECT 1 FROM pg_depend e WHERE e.classid = d.classoid AND e.objid = d.objoid AND e.deptype = 'e') ORDER "
            "BY 1, 2"
        ):
            word = {"table constraint": "CONSTRAINT", "domain constraint": "CONSTRAINT"}.get(kind, kind.upper())
            if kind.endswith(" column"):
                word = "COLUMN"
            self._add("comment", f"{kind} {identity}", f"COMMENT ON {word} {identity} IS {literal_of(text)}")

    def _owners_and_rights(self) -> None:
        kinds = {"r": "TABLE", "p": "TABLE", "v": "VIEW", "m": "MATERIALIZED VIEW", "S": "SEQUENCE"}
        for full, kind, owner, acl in self._rows(
            "SELECT format('%I.%I', n.nspname, c.relname), c.relkind::text, pg_get_userbyid(c.relowner), "
            "(SELECT jsonb_agg(jsonb_build_array(a.privilege_type, CASE WHEN a.grantee = 0 THEN 'PUBLIC' ELSE "
            "pg_get_userbyid(a.grantee) END, a.is_grantable)) FROM aclexplode(c.relacl) a WHERE a.grantee <> "
            "c.relowner) "
            "FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
            f"WHERE c.relkind IN ('r', 'p', 'v', 'm', 'S') AND {ours_in('pg_class', 'c.oid')} ORDER BY c.oid"
        ):
            user = self._connection.info.user
            if owner != user and not (kind == "S" and full in self._identity_sequences()):
                self._owners[f"{kinds[kind]} {full}"] = owner
            for privilege, grantee, grantable in acl or ():
                on = "SEQUENCE" if kind == "S" else "TABLE"
                role = "PUBLIC" if grantee == "PUBLIC" else quote(grantee)
                more = " WITH GRANT OPTION" if grantable else ""
                self._rights.append((grantee, f"GRANT {privilege} ON {on} {full} TO {role}{more}"))

    def _identity_sequences(self) -> set[str]:
        return {options.split(" START WITH")[0].removeprefix("SEQUENCE NAME ") for options in self._identity.values()}

    def _what_is_not_kept(self) -> None:
        for what, text in (
            ("aggregate", "SELECT p.oid::regprocedure::text FROM pg_proc p JOIN pg_namespace n ON n.oid = "
                "p.pronamespace "
             f"WHERE p.prokind = 'a' AND {ours_in('pg_proc', 'p.oid')}"),
            ("operator", "SELECT o.oid::regoperator::text FROM pg_operator o JOIN pg_namespace n ON n.oid = "
                "o.oprnamespace "
             f"WHERE {ours_in('pg_operator', 'o.oid')}"),
            ("text search configuration", "SELECT t.cfgname FROM pg_ts_config t JOIN pg_namespace n ON n.oid = "
                "t.cfgnamespace "
             f"WHERE {ours_in('pg_ts_config', 't.oid')}"),
            ("foreign table", "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n "
             f"ON n.oid = c.relnamespace WHERE c.relkind = 'f' AND {ours_in('pg_class', 'c.oid')}"),
            ("row policy", "SELECT format('%I on %I', p.polname, c.relname) FROM pg_policy p "
             "JOIN pg_class c ON c.oid = p.polrelid"),
            ("event trigger", "SELECT evtname FROM pg_event_trigger"),
            ("publication", "SELECT pubname FROM pg_publication"),
            ("tablespace of", "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n "
             f"ON n.oid = c.relnamespace WHERE c.reltablespace <> 0 AND c.relkind IN ('r', 'i', 'm') "
             f"AND {ours_in('pg_class', 'c.oid')}"),
            ("large objects:", "SELECT count(*) FROM pg_largeobject_metadata HAVING count(*) > 0"),
        ):  # fmt: skip
            self._not_kept += [f"{what} {name}" for (name,) in self._rows(text)]
        if self._owners or self._rights:
            roles = sorted({*self._owners.values(), *(r for r, _ in self._rights)} - {"PUBLIC"})
            self._not_kept.append(f"what belongs or is granted to {', '.join(roles)}, where that role does not exist")


def plain_name(name: str) -> str:
    """As format('%I') writes it."""
    return name if re.fullmatch(r"[a-z_][a-z0-9_$]*", name) else quote(name)

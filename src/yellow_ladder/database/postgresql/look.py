"""What a PostgreSQL database holds besides rows, read from its catalogs (chapter 53 of the manual)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from typing import Any

import psycopg

from yellow_ladder.database.port import AS_ASKED, LEDGER_TABLE, NOT_FILLED, NOT_READ, Session, Table, Traits
from yellow_ladder.database.postgresql import accounts as of_server
from yellow_ladder.database.postgresql.connect import OUR_NAME, Connection, plain
from yellow_ladder.words import count_of

LARGE_OBJECTS = "(large objects)"
_SITE_SCHEMAS = "n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname !~ '^pg_(toast|temp)'"
_OF_EXTENSION = (
    "EXISTS (SELECT 1 FROM pg_depend AS d WHERE d.classid = '{of}'::regclass AND d.objid = {oid} AND d.deptype = 'e')"
)


def _named(schema: str, name: str) -> str:
    """SQL for the name by which the tool knows an object: bare in the schema `public`, with the schema elsewhere."""
    return f"CASE WHEN {schema} = 'public' THEN {name} ELSE quote_ident({schema}) || '.' || quote_ident({name}) END"


def _not_of_extension(of: str, oid: str) -> str:
    return "NOT " + _OF_EXTENSION.format(of=of, oid=oid)


_TABLES = f"""
SELECT {_named("n.nspname", "c.relname")}, n.nspname, c.relname,
  ARRAY(SELECT attname::text FROM pg_attribute WHERE attrelid = c.oid AND attnum > 0 AND NOT attisdropped
        ORDER BY attnum),
  coalesce((SELECT x.names FROM pg_index AS i, LATERAL (
        SELECT array_agg(a.attname::text ORDER BY k.place) AS names, bool_and(a.attnotnull) AS is_set
        FROM unnest(i.indkey::int2[]) WITH ORDINALITY AS k (num, place)
        LEFT JOIN pg_attribute AS a ON a.attrelid = c.oid AND a.attnum = k.num WHERE k.place <= i.indnkeyatts) AS x
     WHERE i.indrelid = c.oid AND i.indisunique AND i.indisvalid AND i.indimmediate AND i.indpred IS NULL
       AND i.indexprs IS NULL AND x.is_set
     ORDER BY i.indisprimary DESC, i.indnkeyatts, x.names LIMIT 1), '{{}}')
FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE c.relkind = 'r' AND c.relpersistence <> 't' AND {_SITE_SCHEMAS} AND {_not_of_extension("pg_class", "c.oid")}
ORDER BY 1
"""

_RIGHTS = "coalesce(' owner ' || pg_get_userbyid({owner}), '') || coalesce(' rights ' || {acl}::text, '')"
# Which rights on a table are all of them, differs between versions: 17 has one more, which every owner then has.
_ALL_RIGHTS = "replace({acl}::text, substring(acldefault('r', {owner})::text from '=[^/]*/'), '=all/')"
_TABLE_RIGHTS = _RIGHTS.replace("{acl}::text", _ALL_RIGHTS)
_COMMENT = "coalesce(' comment ' || obj_description({oid}, '{of}'), '')"
_OBJECTS = {
    "table": f"""
SELECT {_named("n.nspname", "c.relname")}, concat_ws(E'\\n',
  c.relkind::text || ' ' || c.relpersistence::text || coalesce(' ' || array_to_string(c.reloptions, ','), '')
    || CASE WHEN c.relrowsecurity THEN ' row security' ELSE '' END
    || {_TABLE_RIGHTS.format(owner="c.relowner", acl="c.relacl")}
    || {_COMMENT.format(oid="c.oid", of="pg_class")}
    || coalesce(' partitioned by ' || pg_get_partkeydef(c.oid), '')
    || coalesce(' partition ' || pg_get_expr(c.relpartbound, c.oid), ''),
  (SELECT string_agg(concat_ws(' ', quote_ident(a.attname), format_type(a.atttypid, a.atttypmod),
      CASE WHEN a.attcollation <> t.typcollation THEN 'collate ' || a.attcollation::regcollation END,
      CASE WHEN a.attnotnull THEN 'not null' END, nullif('identity ' || a.attidentity::text, 'identity '),
      nullif('generated ' || a.attgenerated::text, 'generated '), 'default ' || pg_get_expr(s.adbin, s.adrelid),
      'rights ' || a.attacl::text, 'comment ' || col_description(c.oid, a.attnum)), E'\\n' ORDER BY a.attnum)
    FROM pg_attribute AS a JOIN pg_type AS t ON t.oid = a.atttypid
    LEFT JOIN pg_attrdef AS s ON s.adrelid = a.attrelid AND s.adnum = a.attnum
    WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped),
  (SELECT string_agg(quote_ident(k.conname) || ' ' || pg_get_constraintdef(k.oid)
      || CASE WHEN k.convalidated THEN '' ELSE ' not valid' END, E'\\n' ORDER BY k.conname)
    FROM pg_constraint AS k WHERE k.conrelid = c.oid AND k.contype <> 'n'))
FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'f') AND c.relpersistence <> 't' AND {_SITE_SCHEMAS}
  AND {_not_of_extension("pg_class", "c.oid")} AND c.relname <> '{LEDGER_TABLE}'""",
    "view": f"""
SELECT {_named("n.nspname", "c.relname")}, pg_get_viewdef(c.oid) || coalesce(array_to_string(c.reloptions, ','), '')
    || {_TABLE_RIGHTS.format(owner="c.relowner", acl="c.relacl")} || {_COMMENT.format(oid="c.oid", of="pg_class")}
FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE c.relkind IN ('v', 'm') AND {_SITE_SCHEMAS} AND {_not_of_extension("pg_class", "c.oid")}""",
    "index": f"""
SELECT {_named("n.nspname", "c.relname")}, pg_get_indexdef(c.oid)
FROM pg_index AS i JOIN pg_class AS c ON c.oid = i.indexrelid JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE {_SITE_SCHEMAS} AND NOT i.indrelid::regclass::text LIKE '%{LEDGER_TABLE}'
  AND {_not_of_extension("pg_class", "i.indrelid")}""",
    "trigger": f"""
SELECT t.tgname || ' on ' || {_named("n.nspname", "c.relname")},
    pg_get_triggerdef(t.oid) || ' enabled ' || t.tgenabled::text
FROM pg_trigger AS t JOIN pg_class AS c ON c.oid = t.tgrelid JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE NOT t.tgisinternal AND {_SITE_SCHEMAS}""",
    "rule": f"""
SELECT r.rulename || ' on ' || {_named("n.nspname", "c.relname")}, pg_get_ruledef(r.oid)
FROM pg_rewrite AS r JOIN pg_class AS c ON c.oid = r.ev_class JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE r.rulename <> '_RETURN' AND {_SITE_SCHEMAS}""",
    "policy": f"""
SELECT p.polname || ' on ' || {_named("n.nspname", "c.relname")}, concat_ws(' ', p.polcmd, p.polpermissive,
    ARRAY(SELECT pg_get_userbyid(r) FROM unnest(p.polroles) AS r)::text, pg_get_expr(p.polqual, p.polrelid),
    pg_get_expr(p.polwithcheck, p.polrelid))
FROM pg_policy AS p JOIN pg_class AS c ON c.oid = p.polrelid JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE {_SITE_SCHEMAS}""",
    "function": f"""
SELECT {_named("n.nspname", "p.proname")} || '(' || pg_get_function_identity_arguments(p.oid) || ')',
    CASE WHEN p.prokind = 'a' THEN 'aggregate returns ' || pg_get_function_result(p.oid)
         ELSE pg_get_functiondef(p.oid) END
    || {_RIGHTS.format(owner="p.proowner", acl="p.proacl")} || {_COMMENT.format(oid="p.oid", of="pg_proc")}
FROM pg_proc AS p JOIN pg_namespace AS n ON n.oid = p.pronamespace
WHERE {_SITE_SCHEMAS} AND {_not_of_extension("pg_proc", "p.oid")}""",
    "type": f"""
SELECT {_named("n.nspname", "t.typname")}, concat_ws(' ', t.typtype,
    (SELECT string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder) FROM pg_enum AS e
     WHERE e.enumtypid = t.oid),
    nullif(format_type(t.typbasetype, t.typtypmod), '-'), t.typdefault, CASE WHEN t.typnotnull THEN 'not null' END,
    (SELECT string_agg(pg_get_constraintdef(k.oid), ' ' ORDER BY k.conname) FROM pg_constraint AS k
     WHERE k.contypid = t.oid AND k.contype <> 'n'))
    || {_RIGHTS.format(owner="t.typowner", acl="t.typacl")}
FROM pg_type AS t JOIN pg_namespace AS n ON n.oid = t.typnamespace LEFT JOIN pg_class AS c ON c.oid = t.typrelid
WHERE {_SITE_SCHEMAS} AND (t.typtype IN ('e', 'd', 'r') OR (t.typtype = 'c' AND c.relkind = 'c'))
  AND {_not_of_extension("pg_type", "t.oid")}""",
    "sequence": f"""
SELECT {_named("n.nspname", "c.relname")}, concat_ws(' ', format_type(s.seqtypid, NULL), 'from', s.seqstart, 'by',
    s.seqincrement, s.seqmin, s.seqmax, s.seqcycle) || {_RIGHTS.format(owner="c.relowner", acl="c.relacl")}
FROM pg_sequence AS s JOIN pg_class AS c ON c.oid = s.seqrelid JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE {_SITE_SCHEMAS} AND {_not_of_extension("pg_class", "c.oid")}""",
    "collation": f"""
SELECT {_named("n.nspname", "c.collname")}, concat_ws(' ',
    c.collprovider, c.collisdeterministic, c.collcollate, c.collctype)
FROM pg_collation AS c JOIN pg_namespace AS n ON n.oid = c.collnamespace WHERE {_SITE_SCHEMAS}""",
    "extension": """
SELECT e.extname, 'version ' || e.extversion FROM pg_extension AS e""",
    "schema": f"""
SELECT n.nspname, {_RIGHTS.format(owner="n.nspowner", acl="n.nspacl")}
    || {_COMMENT.format(oid="n.oid", of="pg_namespace")}
FROM pg_namespace AS n WHERE {_SITE_SCHEMAS} AND {_not_of_extension("pg_namespace", "n.oid")}""",
    "default rights": f"""
SELECT concat_ws(' ', pg_get_userbyid(d.defaclrole), n.nspname, d.defaclobjtype),
    {_ALL_RIGHTS.format(owner="d.defaclrole", acl="d.defaclacl")}
FROM pg_default_acl AS d LEFT JOIN pg_namespace AS n ON n.oid = d.defaclnamespace""",
    "event trigger": """
SELECT e.evtname, concat_ws(' ', e.evtevent, e.evtfoid::regproc, e.evtenabled, e.evttags::text)
FROM pg_event_trigger AS e""",
}

_POSITIONS = f"""
SELECT coalesce((SELECT {_named("tn.nspname", "t.relname")} || '.' || a.attname
    FROM pg_depend AS d JOIN pg_class AS t ON t.oid = d.refobjid JOIN pg_namespace AS tn ON tn.oid = t.relnamespace
    JOIN pg_attribute AS a ON a.attrelid = t.oid AND a.attnum = d.refobjsubid
    WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.refclassid = 'pg_class'::regclass
      AND d.deptype IN ('a', 'i') LIMIT 1), {_named("n.nspname", "c.relname")}),
  coalesce(pg_sequence_last_value(c.oid)::text, 'unused')
FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE c.relkind = 'S' AND {_SITE_SCHEMAS} AND {_not_of_extension("pg_class", "c.oid")} ORDER BY 1
"""


def _rows(connection: Connection, query: str) -> list[tuple[Any, ...]]:
    return connection.execute(plain(query)).fetchall()


def tables(connection: Connection) -> dict[str, tuple[str, str, Table]]:
    """(schema, name, table) of every table of the site, by the name by which the tool knows it."""
    found = {}
    for known_as, schema, name, columns, key in _rows(connection, _TABLES):
        if name != LEDGER_TABLE and columns:
            found[known_as] = (schema, name, Table(known_as, tuple(columns), tuple(key)))
    if _rows(connection, "SELECT 1 FROM pg_largeobject_metadata LIMIT 1"):
        found[LARGE_OBJECTS] = ("", "", Table(LARGE_OBJECTS, ("loid", "content"), ("loid",)))
    return found


accounts = of_server.accounts


def objects(connection: Connection) -> dict[str, str]:
    """Everything that is defined, by `kind name`."""
    found = {}
    for kind, query in _OBJECTS.items():
        found.update({f"{kind} {name}": text or "" for name, text in _rows(connection, query)})
    return dict(sorted(found.items()))


def positions(connection: Connection) -> dict[str, str]:
    """Where each sequence stands, by the column that it belongs to."""
    return dict(_rows(connection, _POSITIONS))


_ANSWERS = f"""
SELECT {_named("n.nspname", "c.relname")}, format('%I.%I', n.nspname, c.relname), pg_get_viewdef(c.oid),
  c.relispopulated, has_table_privilege(c.oid, 'SELECT')
FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE c.relkind = 'm' AND {_SITE_SCHEMAS} AND {_not_of_extension("pg_class", "c.oid")} ORDER BY 1"""


def kept_apart(connection: Connection, known: Mapping[str, str]) -> dict[str, str]:
    """The contents of materialised views: the number of rows, and the sum of a hash of each as text."""
    found = {}
    for known_as, name, query, is_filled, may_read in _rows(connection, _ANSWERS):
        key = f"contents {known_as}"
        if not may_read:
            found[key] = f"{NOT_READ}this account has no right to"
        elif not is_filled:
            found[key] = NOT_FILLED
        else:
            found[key] = _rows_in_short(connection, f"TABLE {name}")
            # Only where it matters: what is kept so that it need not be worked out may take long to work out.
            if found[key] != known.get(key, found[key]):
                found[key] = _held_against(connection, query.rstrip(";"), found[key])
    return found


def _held_against(connection: Connection, query: str, holds: str) -> str:
    """What a materialised view holds, and whether its query gives that; others than its owner may not be let to ask."""
    try:
        with connection.transaction():
            return holds + AS_ASKED if _rows_in_short(connection, query) == holds else holds
    except psycopg.OperationalError:
        raise
    except psycopg.Error as fault:
        return f"{NOT_READ}what its query gives ({str(fault).splitlines()[0]})"


def _rows_in_short(connection: Connection, query: str) -> str:
    # A column of the view's could be called like a shorter name for the row.
    hashed = 'sum(hashtextextended(yellow_ladder_row::text COLLATE "C", 0)) % 18446744073709551616'
    ((count, total),) = _rows(connection, f"SELECT count(*), {hashed} FROM ({query}) AS yellow_ladder_row")
    return f"{count_of(int(count), 'row')}, sum {int(total or 0) % 2**64:016x}"


def object_counts(connection: Connection) -> dict[str, int]:
    """How many objects there are of each kind."""
    return Counter(name.split(" ", 1)[0] for name in objects(connection))


def traits(connection: Connection) -> Traits:
    """Version, encoding, collations in use, sequences."""
    ((version, encoding, collation),) = _rows(
        connection,
        "SELECT current_setting('server_version'), pg_encoding_to_char(encoding), datcollate"
        " FROM pg_database WHERE datname = current_database()",
    )
    used = _rows(
        connection,
        "SELECT DISTINCT l.collname FROM pg_attribute AS a JOIN pg_class AS c ON c.oid = a.attrelid"
        " JOIN pg_namespace AS n ON n.oid = c.relnamespace JOIN pg_collation AS l ON l.oid = a.attcollation"
        f" WHERE {_SITE_SCHEMAS} AND l.collname <> 'default'",
    )
    collations = tuple(sorted({collation, *(name for (name,) in used)}))
    return Traits("postgresql", version.split()[0], encoding, collations, tuple(positions(connection)))


def broken_objects(connection: Connection) -> list[str]:
    """Indexes that are not in use because their building failed."""
    rows = _rows(connection, "SELECT indexrelid::regclass::text FROM pg_index WHERE NOT indisvalid ORDER BY 1")
    return [f"the index {name}: its building failed, and it is not used" for (name,) in rows]


def beyond_backups(connection: Connection) -> list[str]:
    """Foreign tables, and tables that a crash of the server empties."""
    query = (
        f"SELECT {_named('n.nspname', 'c.relname')}, c.relkind = 'f' FROM pg_class AS c"
        f" JOIN pg_namespace AS n ON n.oid = c.relnamespace WHERE {_SITE_SCHEMAS}"
        " AND (c.relkind = 'f' OR (c.relkind IN ('r', 'p') AND c.relpersistence = 'u'))"
        f" AND {_not_of_extension('pg_class', 'c.oid')} ORDER BY 1"
    )
    return [
        f"the foreign table {name} has its rows on another server: they are in no backup and not compared"
        if is_foreign
        else f"the table {name} is unlogged: it is in backups, but a crash of the server empties it"
        for name, is_foreign in _rows(connection, query)
    ]


def invalid_constraints(connection: Connection) -> list[str]:
    """Constraints that were never held against the rows that were there before them."""
    rows = _rows(
        connection, "SELECT conname, conrelid::regclass::text FROM pg_constraint WHERE NOT convalidated ORDER BY 1"
    )
    return [f"the constraint {name} of {table} was never checked against older rows" for name, table in rows]


def sessions(connection: Connection) -> list[Session]:
    """Who else is connected to this database."""
    rows = _rows(
        connection,
        "SELECT usename, coalesce(nullif(application_name, ''), host(client_addr), 'local'), pid,"
        " CASE WHEN xact_start IS NOT NULL AND backend_xid IS NOT NULL THEN extract(epoch FROM now() - xact_start) END"
        " FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
        f" AND backend_type = 'client backend' AND application_name <> '{OUR_NAME}' ORDER BY pid",
    )
    return [
        Session(f"{user} ({program}, server process {pid})", None if seconds is None else float(seconds))
        for user, program, pid, seconds in rows
    ]


def unfinished(connection: Connection) -> str:
    """Transactions that were prepared and left."""
    rows = _rows(connection, "SELECT gid FROM pg_prepared_xacts WHERE database = current_database()")
    return f"the prepared transaction {rows[0][0]} was never ended; it holds its locks" if rows else ""


_OWNERS = f"""
SELECT pg_get_userbyid(owner), min(name), count(*) FROM (
  SELECT c.relowner AS owner, {_named("n.nspname", "c.relname")} AS name
  FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
  WHERE c.relkind IN ('r', 'v', 'm', 'p', 'f', 'S') AND {_SITE_SCHEMAS} AND {_not_of_extension("pg_class", "c.oid")}
  UNION ALL SELECT p.proowner, {_named("n.nspname", "p.proname")}
  FROM pg_proc AS p JOIN pg_namespace AS n ON n.oid = p.pronamespace
  WHERE {_SITE_SCHEMAS} AND {_not_of_extension("pg_proc", "p.oid")}
  UNION ALL SELECT lomowner, 'large object ' || oid FROM pg_largeobject_metadata
) AS found WHERE NOT pg_has_role(owner, 'MEMBER') GROUP BY 1 ORDER BY 1"""


def lacking(connection: Connection) -> list[tuple[str, str]]:
    """Owners of objects whose rights this account does not have: loading a dump gives objects back to them."""
    ((user,),) = _rows(connection, "SELECT current_user")
    return [
        (
            f"{name} and {count - 1:,} more belong to {owner}, whose rights {user} does not have"
            if count > 1
            else f"{name} belongs to {owner}, whose rights {user} does not have",
            f"GRANT {owner} TO {user}, or give these objects to {user} (ALTER … OWNER TO)",
        )
        for owner, name, count in _rows(connection, _OWNERS)
    ]

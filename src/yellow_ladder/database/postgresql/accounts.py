"""What a PostgreSQL server knows of accounts and of its databases as such: in no database, and in no dump of one."""

from __future__ import annotations

import hashlib

import psycopg

from yellow_ladder.database.postgresql.connect import Connection, plain

_ROLES = """
SELECT r.rolname, concat_ws(' ',
    CASE WHEN r.rolsuper THEN 'superuser' END, CASE WHEN r.rolcanlogin THEN 'login' END,
    CASE WHEN r.rolcreatedb THEN 'createdb' END, CASE WHEN r.rolcreaterole THEN 'createrole' END,
    CASE WHEN r.rolinherit THEN 'inherit' END, CASE WHEN r.rolreplication THEN 'replication' END,
    CASE WHEN r.rolbypassrls THEN 'bypassrls' END, 'at most ' || nullif(r.rolconnlimit, -1),
    'until ' || r.rolvaliduntil,
    'member of ' || (SELECT string_agg(DISTINCT b.rolname || CASE WHEN m.admin_option THEN ' as admin' ELSE '' END,
            ', ')
        FROM pg_auth_members AS m JOIN pg_roles AS b ON b.oid = m.roleid WHERE m.member = r.oid),
    'with ' || (SELECT array_to_string(s.setconfig, ', ') FROM pg_db_role_setting AS s
        WHERE s.setrole = r.oid AND s.setdatabase = 0))
FROM pg_roles AS r WHERE r.rolname !~ '^pg_'"""
_DATABASES = """
SELECT d.datname, concat_ws(' ', 'owner ' || pg_get_userbyid(d.datdba),
    'rights ' || replace(d.datacl::text, substring(acldefault('d', d.datdba)::text from '[^{,]+=([^/]*)/'), 'all'),
    'at most ' || nullif(d.datconnlimit, -1), 'comment ' || shobj_description(d.oid, 'pg_database'),
    (SELECT string_agg(concat_ws(' ', 'for ' || r.rolname, one), ', ' ORDER BY r.rolname, one)
        FROM pg_db_role_setting AS s CROSS JOIN unnest(s.setconfig) AS one LEFT JOIN pg_roles AS r ON r.oid = s.setrole
        WHERE s.setdatabase = d.oid AND NOT (s.setrole = 0 AND one LIKE 'default_transaction_read_only=%')))
FROM pg_database AS d WHERE NOT d.datistemplate"""


def accounts(connection: Connection) -> dict[str, str]:
    """Every account and database of the server, by `account NAME` and `database NAME`, with what is set for it.

    Of a password there is no more than a digest of what the server keeps, where this account may see that.
    """
    found = {f"account {name}": text for name, text in connection.execute(plain(_ROLES)).fetchall()}
    try:
        with connection.transaction():
            query = "SELECT rolname, rolpassword FROM pg_authid WHERE rolpassword IS NOT NULL AND rolname !~ '^pg_'"
            for name, kept in connection.execute(plain(query)).fetchall():
                digest = hashlib.sha256(str(kept).encode()).hexdigest()[:16]
                found[f"account {name}"] = f"{found.get(f'account {name}', '')} password {digest}".strip()
    except psycopg.errors.InsufficientPrivilege:
        pass
    found |= {f"database {name}": text for name, text in connection.execute(plain(_DATABASES)).fetchall()}
    return found

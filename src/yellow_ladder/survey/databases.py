"""Looks at databases without holding a lock that the application would feel."""

from __future__ import annotations

from yellow_ladder.database import Database
from yellow_ladder.database.kept import connections_kept
from yellow_ladder.errors import LadderError
from yellow_ladder.services.looking import users_of_file
from yellow_ladder.survey.records import SurveyedDatabase


@connections_kept()
def look_at_database(name: str, database: Database, *, thorough: bool = False) -> SurveyedDatabase:
    """What a database is like, or why it cannot be read. `thorough` checks every constraint, however long it takes."""
    try:
        engine = database.probe()
        tables = database.tables()
        rows = database.count_all([table.name for table in tables], gently=True)
        traits = database.traits()
        ledger = database.ledger()
        return SurveyedDatabase(
            name,
            engine,
            kind=traits.engine,
            version=traits.version,
            encoding=traits.encoding,
            collations=traits.collations,
            size_bytes=database.size_bytes(),
            tables=rows,
            columns=tuple(tables),
            objects={kind: count for kind, count in database.object_counts().items() if kind in _TOLD},
            sequences=traits.sequences,
            broken=tuple(database.broken_objects()),
            invalid=tuple(database.invalid_constraints(thorough=thorough)),
            migrations=len(ledger),
            last_migration=f"{ledger[-1].migration} ({ledger[-1].version})" if ledger else "",
            users=_users(database),
            lacks=tuple(database.lacks()),
        )
    except LadderError as fault:
        return SurveyedDatabase(name, trouble=fault.problems[0].message, remedy=fault.problems[0].remedy)


# Without tables, which are listed, and without what every database has.
_TOLD = ("view", "trigger", "index", "function", "procedure", "event", "type", "rule", "policy")


def _users(database: Database) -> tuple[str, ...]:
    if not database.address.is_file:
        return tuple(session.who for session in database.sessions())
    return tuple(f"{one.name} (process {one.pid}, {one.account})" for one in users_of_file(database.address.path))

"""MariaDB (and MySQL as far as it goes the same way), through a driver and the server's own programs."""

from __future__ import annotations

import contextlib
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import replace
from pathlib import Path

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.clients import Client
from yellow_ladder.database.kept import let_go
from yellow_ladder.database.mariadb import clone, look, move, others, parts
from yellow_ladder.database.mariadb.apply import apply_once
from yellow_ladder.database.mariadb.connect import (
    client,
    connected,
    is_mariadb,
    quoted,
    rows,
)
from yellow_ladder.database.mariadb.reading import MariadbReader
from yellow_ladder.database.port import (
    LEDGER_TABLE,
    Details,
    LedgerEntry,
    OnAmount,
    Session,
)
from yellow_ladder.database.server import beside, is_local, scratch_beside
from yellow_ladder.errors import AnswerNo, LadderError, Problem
from yellow_ladder.files.copying import remove_entry

OLDEST = {"mariadb": (10, 6), "mysql": (8, 0)}
# What the server takes for the name of a database, in characters.
LONGEST_NAME = 64


class MariadbDatabase(MariadbReader):
    """A database of a MariaDB server."""

    ending = "sql.zst"
    _answers = look
    moves_meanwhile = True

    def _client(self, kind: str) -> Client:
        with self._reading() as connection:
            version = tuple(map(int, look.version_of(connection).split(".")))
            return client(kind, version, mariadb=is_mariadb(connection), programs=self.address.programs)

    def probe(self) -> str:
        traits = self.traits()
        oldest = OLDEST[traits.engine]
        name = {"mariadb": "MariaDB", "mysql": "MySQL"}[traits.engine]
        if tuple(map(int, traits.version.split(".")))[:2] < oldest:
            text = f"the server of the database `{self.address.name}` is {name} {traits.version}"
            remedy = f"{name} {'.'.join(map(str, oldest))} is the oldest that is supported"
            raise AnswerNo(Problem("server-too-old", text, remedy))
        return f"{name} {traits.version}"

    def size_bytes(self) -> int:
        query = (
            "SELECT coalesce(sum(data_length + index_length), 0) FROM information_schema.tables"
            " WHERE table_schema = DATABASE()"
        )
        return int(self.scalar(query))

    def invalid_constraints(self, *, thorough: bool) -> list[str]:
        with self._reading() as connection:
            return look.dangling(connection) if thorough else []

    def sessions(self) -> list[Session]:
        let_go()  # the server would list them too
        with self._reading() as connection:
            return look.sessions(connection)

    def lacks(self) -> list[tuple[str, str]]:
        found, versions = [], []
        for kind in ("dump", "shell"):
            try:
                versions.append(self._client(kind).version)
            except AnswerNo as fault:
                found += [(problem.message, problem.remedy) for problem in fault.problems]
        with self._reading() as connection:
            missing = look.lacking_rights(connection)
            found += parts.code_of_others(connection)
            if versions and is_mariadb(connection):
                server = tuple(map(int, look.version_of(connection).split(".")))
                found += parts.lost_history(connection, server, *versions)
        if missing:
            names, user = ", ".join(missing), self.address.user or "the account"
            what = f"{user} lacks the rights {names}, which a backup and its return need"
            found.append((what, f"GRANT {names} ON {quoted(self.address.database)}.* TO it"))
        return found

    def unfinished(self) -> str:
        """What a crash left, the server takes back by itself when it starts."""
        return ""

    @contextlib.contextmanager
    def backed_up(self, target: Path, on_amount: OnAmount, *, at_rest: bool) -> Iterator[MariadbDatabase]:
        """At rest, every table is locked against writing for as long as the block lasts."""
        program = self._client("dump")
        with self._reading() as connection:
            kin = move.older_kin_options(mariadb=is_mariadb(connection))
        held = self._locked() if at_rest else contextlib.nullcontext()
        with held:
            whole = [part if callable(part) else [*kin, *part] for part in parts.whole(self.address)]
            move.dump(self.address, program, target, on_amount, whole)
            yield MariadbDatabase(self.address)

    @contextlib.contextmanager
    def _locked(self) -> Iterator[None]:
        with connected(self.address) as connection:
            names = [table.name for table in self.tables()]
            if names:
                rows(connection, "LOCK TABLES " + ", ".join(f"{quoted(name)} READ" for name in names))
            yield

    def check_backup(self, backup: Path) -> None:
        move.check_dump(backup)

    @contextlib.contextmanager
    def held_still(self, scratch: Path) -> Iterator[MariadbDatabase]:  # noqa: ARG002
        with connected(self.address, as_text=True) as connection:
            rows(connection, "SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
            rows(connection, "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
            yield MariadbDatabase(self.address, connection)

    def copied_to(self, backup: Path, scratch: Path) -> MariadbDatabase:
        name = self._scratch(scratch)
        move.make_empty(self.address, name, self.details())
        move.load(self.address, self._client("shell"), name, backup)
        move.silence_events(self.address, name)
        return self.opened_scratch(scratch)

    def opened_scratch(self, scratch: Path) -> MariadbDatabase:
        return MariadbDatabase(self._named(self._scratch(scratch)))

    def _scratch(self, scratch: Path) -> str:
        return scratch_beside(self.address.database, scratch, LONGEST_NAME)

    def _named(self, database: str) -> DatabaseAddress:
        return replace(self.address, database=database)

    def drop_scratch(self, scratch: Path) -> None:
        move.drop(self.address, self._scratch(scratch))

    def details(self) -> Details:
        with self._reading() as connection:
            ((charset, collation),) = rows(connection, "SELECT @@character_set_database, @@collation_database")
        return {"charset": charset, "collation": collation}

    def restore_from(self, backup: Path, details: Details) -> None:
        """The dump is loaded beside, and its tables change places with the present ones in one instant.

        Where this account may make no other database, the present one is made anew in its place.
        """
        program = self._shell()
        if not self.sets_aside():
            move.make_empty(self.address, self.address.database, details)
            move.load(self.address, program, self.address.database, backup)
            return
        with self._loaded_beside(details) as fresh:
            move.load(self.address, program, fresh.database, backup)

    @contextlib.contextmanager
    def _loaded_beside(self, details: Details) -> Iterator[DatabaseAddress]:
        """A database to be loaded within the block; then its tables and its code take the present ones' place."""
        fresh = self._named(beside(self.address.database, "new", LONGEST_NAME))
        move.make_empty(self.address, fresh.database, details)
        try:
            yield fresh
            with tempfile.TemporaryDirectory() as folder:
                code = Path(folder) / "code"
                move.dump(
                    fresh, MariadbDatabase(fresh)._client("dump"), code, lambda _done, _total: None, parts.code(fresh)
                )
                move.exchange(self.address, fresh.database, self._gone, details)
                move.load(self.address, self._shell(), self.address.database, code)
        except BaseException:
            with contextlib.suppress(LadderError):
                move.drop(self.address, fresh.database)
            raise

    @property
    def _gone(self) -> str:
        return beside(self.address.database, "old", LONGEST_NAME)

    def keep_others_out(self) -> None:
        others.keep_out(self.address)

    def let_others_in(self) -> None:
        others.let_in(self.address)

    def why_others_get_in(self) -> tuple[str, str]:
        return others.why_in(self.address)

    def why_only_counted(self) -> tuple[str, str]:
        """Both sides of a comparison are databases beside the site's own, made with its account."""
        with self._reading() as connection:
            if look.may_make(connection, beside(self.address.database, "any", LONGEST_NAME)):
                return "", ""
            own = "@".join(others.myself(connection))
        pattern = self.address.database.replace("_", "\\_")
        remedy = f"GRANT ALL ON `{pattern}\\_%`.* TO it: names that begin with this one's"
        return f"{own} may make no database beside {self.address.database}", remedy

    def others_of_server(self) -> list[str]:
        query = "SELECT schema_name FROM information_schema.schemata ORDER BY 1"
        own = {"information_schema", "mysql", "performance_schema", "sys", self.address.database}
        with self._reading() as connection:
            return [str(name) for (name,) in rows(connection, query) if str(name) not in own]

    def data_folder(self) -> Path | None:
        if not is_local(self.address):
            return None
        with self._reading() as connection:
            return Path(str(rows(connection, "SELECT @@datadir")[0][0]))

    def sets_aside(self) -> bool:
        """Where the account may make a database beside its own."""
        if move.exists(self.address, self._gone):
            return True
        try:
            move.make_empty(self.address, self._gone, self.details())
        except AnswerNo:
            return False
        move.drop(self.address, self._gone)
        return True

    def set_aside(self) -> MariadbDatabase | None:
        return MariadbDatabase(self._named(self._gone)) if move.exists(self.address, self._gone) else None

    def _shell(self) -> Client:
        """The program to load with, also where a kill has left no database of the name."""
        with connected(self.address, database="") as connection:
            version = tuple(map(int, look.version_of(connection).split(".")))
            return client("shell", version, mariadb=is_mariadb(connection), programs=self.address.programs)

    def why_no_clone(self) -> str:
        return clone.why_not(self.address)

    def make_clone(self, place: Path) -> int:
        return clone.make(self.address, self._client("dump"), place)

    def has_clone(self, place: Path) -> bool:
        return clone.is_there(place)

    def opened_clone(self, place: Path) -> AbstractContextManager[None]:  # noqa: ARG002
        """Its files are no database before they are taken in again."""
        return contextlib.nullcontext()

    def return_to_clone(self, place: Path, details: Details) -> None:
        if not self.sets_aside():
            move.make_empty(self.address, self.address.database, details)
            clone.put_back(self.address, self._shell(), place)
            return
        with self._loaded_beside(details) as fresh:
            clone.put_back(fresh, self._shell(), place)

    def drop_clone(self, place: Path) -> None:
        remove_entry(place)

    def drop_leftovers(self) -> None:
        """The tables that were moved aside."""
        move.drop(self.address, self._gone)

    def ledger(self) -> list[LedgerEntry]:
        with self._reading() as connection:
            if not rows(connection, f"SHOW TABLES LIKE '{LEDGER_TABLE}'"):
                return []
            query = f"SELECT migration, version, sha256, applied_at FROM {LEDGER_TABLE} ORDER BY place"
            return [LedgerEntry(*row) for row in rows(connection, query)]

    def apply(self, statements: Sequence[str], entry: LedgerEntry) -> bool:
        with connected(self.address) as connection:
            return apply_once(connection, statements, entry)

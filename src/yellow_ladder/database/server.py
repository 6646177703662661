"""What database servers have in common behind the port."""

from __future__ import annotations

import hashlib
from abc import abstractmethod
from collections.abc import Callable, Collection, Iterator, Sequence
from pathlib import Path
from typing import Any

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.answers import Answering
from yellow_ladder.database.kept import connections_kept
from yellow_ladder.database.port import Database, Table, TableChanges
from yellow_ladder.database.row_changes import Row, count_differences, csv_path, paired, write_differences
from yellow_ladder.errors import OwnFault, Problem

_COUNTED_AT_ONCE = 100


class ServerDatabase(Answering):
    """A database of a server: it has no files of its own in the site, and others are connected to it."""

    def __init__(self, address: DatabaseAddress) -> None:
        """Name the database; nothing is connected yet."""
        self.address = address

    @abstractmethod
    def tables(self) -> list[Table]:
        """All tables, as the engine lists them."""

    @abstractmethod
    def sorted_rows(self, table: Table, columns: Sequence[str], width: int) -> Iterator[Row]:
        """Columns of a table in the binary order of the text of the first `width` of them, NULL first."""

    def own_files(self) -> tuple[Path, ...]:
        return ()

    def writers(self) -> list[int]:
        """On a server, `sessions` tells who is connected."""
        return []

    def holders(self) -> list[int]:
        """Only the server itself."""
        return []

    def is_same_as_backup(self, backup: Path) -> bool:  # noqa: ARG002
        """Backup and fingerprint are of one moment, which the server keeps."""
        return True

    @connections_kept()
    def changes_since(self, then: Database, leave_out: Collection[str] = ()) -> list[TableChanges]:
        pairs = paired(then.tables(), self.tables())
        read = _same_kind(then).sorted_rows
        found = [
            count_differences(read, self.sorted_rows, name, pair)
            for name, pair in pairs.items()
            if name not in leave_out
        ]
        return [one for one in found if one.added or one.changed or one.deleted]

    @connections_kept()
    def write_changes_since(self, then: Database, changes: Sequence[TableChanges], folder: Path) -> list[Path]:
        wanted, written = {one.table for one in changes}, []
        for name, pair in paired(then.tables(), self.tables()).items():
            if name in wanted:
                path = csv_path(folder, self.address.name, name)
                write_differences(_same_kind(then).sorted_rows, self.sorted_rows, pair, path)
                written.append(path)
        return written


def _same_kind(database: Database) -> ServerDatabase:
    if not isinstance(database, ServerDatabase):
        raise OwnFault(Problem("other-engine", "databases of different engines cannot be compared"))
    return database


def counted(
    tables: Sequence[str], question: Callable[[str], str], ask: Callable[[str], list[tuple[Any, ...]]]
) -> dict[str, int]:
    """Numbers of rows, many tables to a statement; `question` selects the number of one."""
    found: dict[str, int] = {}
    for start in range(0, len(tables), _COUNTED_AT_ONCE):
        some = tables[start : start + _COUNTED_AT_ONCE]
        each = (f"SELECT {number}, ({question(table)})" for number, table in enumerate(some))
        answers = ask(" UNION ALL ".join(each))
        found.update({some[int(number)]: int(count) for number, count in answers})
    return found


def scratch_name(scratch: Path) -> str:
    """The name of a scratch database on its server, the same for the same path."""
    return "ladder_" + hashlib.sha256(str(scratch).encode()).hexdigest()[:20]


def scratch_beside(database: str, scratch: Path, longest: int) -> str:
    """The same, where rights are given by patterns of names: it begins with the name of the database itself."""
    return f"{database.encode()[: longest - 28].decode(errors='ignore')}_{scratch_name(scratch)}"


def beside(database: str, what: str, longest: int) -> str:
    """The name of a database that stands beside another for a while, the same for the same."""
    mark = hashlib.sha256(database.encode()).hexdigest()[:6]
    return f"{database.encode()[: longest - 20].decode(errors='ignore')}_ladder_{what}_{mark}"


def size_of_folder(path: Path) -> int:
    """Bytes of a file, or of the files in a folder, while somebody writes there."""
    if not path.is_dir():
        return path.stat().st_size if path.exists() else 0
    return sum(entry.stat().st_size for entry in path.iterdir() if entry.exists())


def is_local(address: DatabaseAddress) -> bool:
    """Whether a server is this machine's, as far as its address says."""
    return bool(address.socket) or address.host in ("", "localhost", "127.0.0.1", "::1") or address.host.startswith("/")

"""Questions that every engine answers on one connection, each by a module of its own."""

from __future__ import annotations

import contextlib
from abc import ABC, abstractmethod
from collections.abc import Mapping
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any, Protocol

from yellow_ladder.database.port import Details, Traits
from yellow_ladder.errors import OwnFault, Problem


class Answers(Protocol):
    """A module that looks at a database through an open connection."""

    def traits(self, connection: Any, /) -> Traits:
        """Version, encoding, collations, sequences."""

    def objects(self, connection: Any, /) -> dict[str, str]:
        """Everything that is defined, by `kind name`."""

    def object_counts(self, connection: Any, /) -> Mapping[str, int]:
        """How many objects there are of each kind."""

    def accounts(self, connection: Any, /) -> dict[str, str]:
        """What its server knows of accounts."""

    def positions(self, connection: Any, /) -> dict[str, str]:
        """Where sequences stand."""

    def kept_apart(self, connection: Any, known: Mapping[str, str], /) -> dict[str, str]:
        """What is kept beside the rows of tables."""

    def beyond_backups(self, connection: Any, /) -> list[str]:
        """What backups do not hold."""

    def broken_objects(self, connection: Any, /) -> list[str]:
        """What no longer works."""


class Answering(ABC):
    """The part of the port that is one question on one connection."""

    _answers: Answers

    @abstractmethod
    def _reading(self) -> AbstractContextManager[Any]:
        """A connection that reads."""

    def traits(self) -> Traits:
        with self._reading() as connection:
            return self._answers.traits(connection)

    def objects(self) -> dict[str, str]:
        with self._reading() as connection:
            return self._answers.objects(connection)

    def object_counts(self) -> dict[str, int]:
        with self._reading() as connection:
            return dict(self._answers.object_counts(connection))

    def accounts(self) -> dict[str, str]:
        with self._reading() as connection:
            return self._answers.accounts(connection)

    def positions(self) -> dict[str, str]:
        with self._reading() as connection:
            return self._answers.positions(connection)

    def kept_apart(self, known: Mapping[str, str]) -> dict[str, str]:
        with self._reading() as connection:
            return self._answers.kept_apart(connection, known)

    def beyond_backups(self) -> list[str]:
        with self._reading() as connection:
            return self._answers.beyond_backups(connection)

    def broken_objects(self) -> list[str]:
        with self._reading() as connection:
            return self._answers.broken_objects(connection)


class WithoutClone:
    """The part of the port that clones, for an engine whose copies are put back as quickly."""

    def why_no_clone(self) -> str:
        return "a file needs none"

    def make_clone(self, place: Path) -> int:
        raise OwnFault(Problem("no-clone", f"there is no clone at {place}"))

    def has_clone(self, place: Path) -> bool:  # noqa: ARG002
        return False

    def opened_clone(self, place: Path) -> AbstractContextManager[None]:  # noqa: ARG002
        return contextlib.nullcontext()

    def return_to_clone(self, place: Path, details: Details) -> None:  # noqa: ARG002
        self.make_clone(place)

    def drop_clone(self, place: Path) -> None:
        """There is none to remove."""

"""What a release says of the data: what will hold before and after. Key by key in docs/release-sheet.md."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from pydantic import Field, model_validator

from yellow_ladder.documents import Record
from yellow_ladder.release.values import DottedName

Names = list[str]
SqlText = Annotated[str, Field(min_length=1)]
ByEngine = SqlText | Annotated[dict[Literal["sqlite", "postgresql", "mariadb"], SqlText], Field(min_length=1)]
"""SQL that every engine of the release understands, or one text for each engine."""
Meaning = Literal["number", "moment", "text", "truth", "json"]
"""What is compared where a type changes: what a value means, not how it is written."""


_LITERAL = re.compile(r"'(?:[^']|'')*'")


def for_engine(text: ByEngine, engine: str) -> str:
    """The SQL for an engine; nothing where the release has none for it."""
    return text if isinstance(text, str) else {str(one): its for one, its in text.items()}.get(engine, "")


class TableChange(Record):
    """What happens to one table; tables that are not named stay exactly as they are."""

    name: str
    renamed_from: str = ""
    columns_added: Names = []
    columns_dropped: Names = []
    columns_changed: Names = []
    changed_where: ByEngine | Literal[""] = ""
    columns_renamed: dict[str, str] = {}
    rows: Literal["same", "grow", "any"] = "same"
    loses: str = ""
    values: dict[str, ByEngine] = {}
    kept_where: ByEngine | Literal[""] = ""
    gone_where: ByEngine | Literal[""] = ""
    query: ByEngine | Literal[""] = ""
    matched_by: Names = []
    same_as: dict[str, Meaning] = {}
    filled: dict[str, ByEngine] = {}
    must_change: Names = []

    @model_validator(mode="after")
    def _may_lose(self) -> TableChange:
        if self.loses and self.rows != "any" and not (self.kept_where or self.gone_where or self.query):
            raise ValueError('has `loses`, which needs `kept_where`, `gone_where`, `query` or rows = "any"')
        if self.kept_where and self.gone_where:
            raise ValueError("has `kept_where` and `gone_where`: one of them says it")
        if self.query and (self.values or self.kept_where or self.gone_where or self.renamed_from):
            raise ValueError("has a `query`, which says all by itself: `values`, `kept_where` and the like go into it")
        if self.changed_where and (self.query or not self.columns_changed):
            raise ValueError(
                "has `changed_where`, which tells in which rows columns of `columns_changed` are rewritten"
            )
        said = self.changed_where
        bare = " ".join(_LITERAL.sub("", one) for one in ([said] if isinstance(said, str) else said.values()))
        lost = [name for name in (*self.columns_dropped, *self.columns_renamed, *self.columns_changed)
                if re.search(rf"(?i)(?<!\w){re.escape(name)}(?!\w)", bare)]  # fmt: skip
        if lost:
            text = "has `changed_where`, which is asked of the row before and after, and reads"
            raise ValueError(f"{text} {', '.join(lost)}: rows are to be known by columns that stay")
        if self.rows == "any" and self.needs_reading:
            raise ValueError('has rows = "any", which gives up what the other keys hold: leave it out, or say "grow"')
        return self

    @property
    def needs_reading(self) -> bool:
        """Whether what the table should hold is read from the database before the change."""
        told = self.values or self.kept_where or self.gone_where or self.query or self.same_as or self.matched_by
        return bool(told or self.changed_where) or self.rows == "grow"

    @property
    def is_loose(self) -> bool:
        """Whether something of the table is given up by what is said here."""
        return bool(self.columns_changed) or self.rows == "any"

    @property
    def is_exact(self) -> bool:
        """Whether every value of before is one of after, in its row: columns are new, or have another name."""
        others = self.columns_dropped or self.must_change or self.loses
        return self.rows == "same" and not (self.is_loose or self.needs_reading or others)


class ColumnMove(Record):
    """Values that go to another table, found there again by `by`, the column that holds the old table's key."""

    from_: DottedName = Field(alias="from")
    to: DottedName
    by: str


class SameAnswer(Record):
    """Two questions with the same answer, the one before the change and the other after it."""

    name: str = Field(min_length=1)
    before: ByEngine
    after: ByEngine


class Rule(Record):
    """A question that must be answered with true after the change."""

    name: str = Field(min_length=1)
    query: ByEngine


class Contract(Record):
    """`[[contract]]`: what will hold of one database's data before and after."""

    database: str = "main"
    tables_added: Names = []
    tables_dropped: Names = []
    objects_added: Names = []
    objects_dropped: Names = []
    definition_changed: Names = []
    tables: list[TableChange] = []
    moved: list[ColumnMove] = []
    same_answers: list[SameAnswer] = []
    rules: list[Rule] = []

    @property
    def needs_reading(self) -> bool:
        """Whether something is read before the change, to be held against what comes of it."""
        return bool(self.same_answers) or any(one.needs_reading for one in self.tables)

    @property
    def is_loose(self) -> bool:
        """Whether something is given up by it, or compared without its place."""
        return bool(self.moved) or any(one.is_loose for one in self.tables)

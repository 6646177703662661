"""Holds what is defined against before: types, defaults, keys, indexes, views, triggers, routines, rights, comments.

Definitions follow their tables: a table or column that a release renames is renamed in them first, and of a table that
it changes only the pieces that speak of a declared column may differ. Objects whose name the engine makes up are known
by what they are. Engines write definitions in their own ways; each is taken to pieces as it is written.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from yellow_ladder.fingerprints.lineage import Lineage
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.fingerprints.verdicts import TableVerdict, Verdict

# A release cannot declare what belongs to the server.
_NOT_HELD = ("default rights ",)
_WITH_TABLES = ("table ", "sequence ")
"""What is judged with the tables where it is gone: a sequence goes with the column that it belongs to."""
_ACTING = ("trigger", "rule", "policy", "event")
"""What changes or hides rows from now on: where one came that nobody declared, data are no longer safe as they are."""
_TOKEN = re.compile(
    r"""'(?:[^']|'')*'|"(?:[^"]|"")*"|`(?:[^`]|``)*`|\[[^\]]*\]|\w+|::|<>|[<>!=]=|\|\||[^\w\s]""", re.UNICODE
)
_QUOTES = {'"': '"', "`": "`", "[": "]"}
_NAMED = re.compile(
    r"(?i)^(?:constraint \S+ (?=primary|unique|check|foreign|exclude)"
    r"|\S+ (?=primary key|unique \(|check \(|foreign key|exclude ))"
)
_KEY_LINE = re.compile(r"(?i)^((?:unique |fulltext |spatial )?key) \S+ (?=\()")
_KEY_PIECE = re.compile(r"(?:unique |fulltext |spatial )?key \(")
_REFERRED = re.compile(r"(?<=references )(\w+) \([^)]*\)")
_ALIAS = re.compile(r"(?i) as \w+")
_LONGEST_SHOWN = 110


@dataclass(frozen=True, slots=True)
class _Spoken:
    """What releases say of one table: its name before, its renamed columns (old to new), columns that may differ."""

    old_name: str
    renamed: Mapping[str, str]
    free: frozenset[str]
    is_made_anew: bool


def judge_definitions(before: DatabasePrint, after: DatabasePrint, lineage: Lineage) -> list[TableVerdict]:
    """A verdict for each definition that is gone, is not what it was, or came to act on data, undeclared."""
    spoken = _spoken_of(before, lineage)
    found = []
    by_form = _by_form(after)
    for name, text in sorted(before.objects.items()):
        if name.startswith(_NOT_HELD) or name in lineage.dropped_objects or after.objects.get(name) == text:
            continue
        now_name, now_text = _name_now(name, spoken), _renamed(text, spoken, _own_table(name))
        if now_name in lineage.dropped_objects or {name, now_name} & set(lineage.changed_definitions):
            continue
        if _plain(after.objects.get(now_name, "")) == _plain(text):
            continue
        if now_name in after.objects:
            remark = _differs(now_name, now_text, after.objects[now_name], spoken)
        elif (
            name.startswith(_WITH_TABLES)
            or _went_along(name, text, spoken, before, lineage)
            or _form(now_name, now_text) in by_form
        ):
            continue  # tables are judged by themselves
        else:
            remark = "is gone, and no release declares it"
        if remark:
            found.append(TableVerdict(now_name, Verdict.DIFFERS, None, None, 0, (remark,)))
    known = {*before.objects, *(_name_now(name, spoken) for name in before.objects), *lineage.added_objects}
    for name in sorted(after.objects.keys() - known):
        if name.partition(" ")[0] in _ACTING and not _came_along(name, after.objects[name], spoken):
            remark = "appeared, and no release declares it"
            found.append(TableVerdict(name, Verdict.DIFFERS, None, None, 0, (remark,)))
    return found


def _came_along(name: str, text: str, spoken: Mapping[str, _Spoken]) -> bool:
    """Whether something that acts on data came with its table, or speaks of a column that a release declares."""
    its = spoken.get(name.partition(" on ")[2] or _table_of(text))
    return its is not None and (its.is_made_anew or _speaks_of(text, its.free))


def tables_by_another_name(before: DatabasePrint, after: DatabasePrint, table: str) -> set[str]:
    """Tables to which an index or another object of a table that is gone has gone over, under its own name."""
    there = {name.partition(" ")[2] for name in after.objects if name.startswith("table ")}
    found = set[str]()
    for name, text in before.objects.items():
        if name in after.objects and table in _words(text) and not name.startswith(_WITH_TABLES):
            found |= there.intersection(_words(after.objects[name]))
    return found - {table}


def _spoken_of(before: DatabasePrint, lineage: Lineage) -> dict[str, _Spoken]:
    """By the new name of each table of which something is declared."""
    gone: dict[str, set[str]] = {name: set(table.names) for name, table in before.tables.items()}
    for line in lineage.tables.values():
        for column in line.columns.values():
            if column.origin is not None and not column.by:
                gone[column.origin[0]].discard(column.origin[1])
    found = {}
    for name, line in lineage.tables.items():
        renamed = {
            one.origin[1]: new for new, one in line.columns.items() if one.origin and one.origin[0] == line.origin
        }
        free = {new for new, one in line.columns.items() if one.origin is None or one.is_changed or one.by}
        free |= gone.get(line.origin or "", set())
        anew = line.origin is None or (line.told is not None and bool(line.told.query))
        if not line.is_plain(name):
            changed = {old: new for old, new in renamed.items() if old != new}
            found[name] = _Spoken(line.origin or name, changed, frozenset(free), anew)
    for name in lineage.dropped_tables:
        found.setdefault(name, _Spoken(name, {}, frozenset(), is_made_anew=True))
    return found


def _own_table(name: str) -> str:
    """The table that an object belongs to, as far as its name tells; nothing where that is in its definition."""
    kind, _, rest = name.partition(" ")
    return rest if kind == "table" else rest.partition(" on ")[2]


def _name_now(name: str, spoken: Mapping[str, _Spoken]) -> str:
    """The name of an object, with the new name of the table that it is or belongs to. Names stand there as they are,
    without quotes.
    """
    new_names = {one.old_name: new for new, one in spoken.items()}
    kind, _, rest = name.partition(" ")
    own, on, table = rest.partition(" on ")
    if on:
        return f"{kind} {own} on {new_names.get(table, table)}"
    return f"{kind} {new_names.get(rest, rest)}" if name.startswith(_WITH_TABLES) else name


def _renamed(text: str, spoken: Mapping[str, _Spoken], own: str = "") -> str:
    """A definition with the new names of the tables that it speaks of, and of their columns.

    What belongs to a table (`own`) speaks of its columns, which may be called like those of another.
    """
    words = set(_words(text)) | {own}
    new_names: dict[str, str] = {}
    for name, one in spoken.items():
        if one.old_name in words:
            new_names.update(one.renamed if own in ("", one.old_name) else {})
            if one.old_name != name:
                new_names[one.old_name] = name
    if not new_names:
        return text
    return _TOKEN.sub(lambda found: _as_quoted(found.group(), new_names), text)


def _as_quoted(token: str, new_names: Mapping[str, str]) -> str:
    bare = _bare(token)
    new = new_names.get(bare)
    if new is None or token.startswith("'"):
        return token
    is_word = token != bare or _TOKEN.fullmatch(new) is not None
    return token.replace(bare, new) if is_word else f'"{new}"'  # as the engine writes a name that is no plain word


def _bare(token: str) -> str:
    return token[1:-1] if len(token) > 1 and _QUOTES.get(token[0]) == token[-1] else token


def _words(text: str) -> Iterator[str]:
    return (_bare(token) for token in _TOKEN.findall(text) if not token.startswith("'"))


def _plain(text: str) -> str:
    """A piece of a definition without quotes around names, letter case of words, and spacing."""
    tokens = (token if token.startswith("'") else _bare(token).lower() for token in _TOKEN.findall(text))
    return " ".join(tokens)


def _differs(name: str, old: str, new: str, spoken: Mapping[str, _Spoken]) -> str:
    """What is defined otherwise, in words; nothing where it is the same or may differ."""
    if old == new:
        return ""
    kind, _, bare = name.partition(" ")
    if kind == "table":
        its = spoken.get(bare)
        if its is not None and its.is_made_anew:
            return ""
        was_pieces = (_referring(one, spoken) for one in _pieces(old))
        pieces = [Counter(was_pieces), Counter(_pieces(new))]
        gone, come = (
            [one for one in left if not _may_differ(one, its, spoken)]
            for left in (pieces[0] - pieces[1], pieces[1] - pieces[0])
        )
        # One engine lists indexes with their table, too. One that came is none of this table's loss.
        come = [one for one in come if gone or not _KEY_PIECE.match(one)]
        return _in_words(sorted(gone), sorted(come)) if gone or come else ""
    was, now = _plain(old), _plain(new)
    if kind == "view":  # the engine keeps a view's columns by giving those that were renamed their old names in it
        was, now = (_ALIAS.sub("", one) for one in (was, now))
    free = _declared_around(old, spoken)
    if was == now or _speaks_of(was, free) or _speaks_of(now, free):
        return ""
    return f"is defined otherwise, and no release declares it: {_tidy(_first_change(was, now))}"


def _referring(piece: str, spoken: Mapping[str, _Spoken]) -> str:
    """A piece of a table with the new names of the columns of other tables that it refers to."""

    def follow(found: re.Match[str]) -> str:
        renamed = {old.lower(): new.lower() for old, new in spoken[found.group(1)].renamed.items()}
        return found.group(0) if not renamed else _TOKEN.sub(
            lambda token: renamed.get(token.group(), token.group()), found.group(0)
        )  # fmt: skip

    return _REFERRED.sub(lambda found: follow(found) if found.group(1) in spoken else found.group(0), piece)


def _may_differ(piece: str, its: _Spoken | None, spoken: Mapping[str, _Spoken]) -> bool:
    """Whether a piece of a table speaks of something that is declared: of its own columns, or of those it refers to."""
    if its is not None and _speaks_of(piece, its.free):
        return True
    return "references" in piece.split() and _speaks_of(piece, _declared_around(piece, spoken))


def _declared_around(text: str, spoken: Mapping[str, _Spoken]) -> frozenset[str]:
    """Columns of which something is declared, of the tables that a text speaks of; these tables where they are new."""
    words, found = {one.lower() for one in _words(text)}, set[str]()
    for table, one in spoken.items():
        if {table.lower(), one.old_name.lower()} & words:
            found |= one.free | ({table} if one.is_made_anew else set())
    return frozenset(found)


def _speaks_of(piece: str, names: frozenset[str]) -> bool:
    lowered = {one.lower() for one in names}
    return any(word.lower() in lowered for word in _words(piece))


def _in_words(gone: list[str], come: list[str]) -> str:
    told = "is defined otherwise, and no release declares it: "
    was, now = (_shortened(one[0]) if one else "nothing" for one in (gone, come))
    if gone and come:
        near = next((one for one in come if one.split(" ")[0] == gone[0].split(" ")[0]), come[0])
        now = _shortened(near)
    more = len(gone) + len(come) - (2 if gone and come else 1)
    return f"{told}{was} → {now}" + (f", and {more:,} more" if more > 0 else "")


def _tidy(text: str) -> str:
    return re.sub(r" ([,)])", r"\1", text.replace("( ", "("))


def _shortened(text: str) -> str:
    text = _tidy(text)
    return text if len(text) <= _LONGEST_SHOWN else text[: _LONGEST_SHOWN - 1] + "…"


def _first_change(old: str, new: str) -> str:
    """The first piece that is not the same, as it was and as it is."""
    was, now = old.split(), new.split()
    start = next((place for place, (a, b) in enumerate(zip(was, now, strict=False)) if a != b), min(len(was), len(now)))
    shown = [" ".join(words[max(0, start - 2) : start + 4]) or "nothing" for words in (was, now)]
    return f"{shown[0]} → {shown[1]}"


def _pieces(text: str) -> Iterator[str]:
    """Columns, constraints and options of a table, each by itself and without the name of a constraint."""
    opening = text.find("(")
    if re.match(r"(?is)\s*CREATE\b", text) and opening >= 0:
        body, rest = _in_brackets(text, opening)
        yield from (_nameless(_plain(one)) for one in body)
        yield _plain(rest)
        return
    first, *lines = text.split("\n")
    yield _plain(first)
    yield from (_nameless(_plain(one)) for one in lines)


def _nameless(piece: str) -> str:
    return _KEY_LINE.sub(r"\1 ", _NAMED.sub("", piece))


def _in_brackets(text: str, opening: int) -> tuple[list[str], str]:
    """What stands between the commas of the outermost brackets, and what follows them."""
    parts: list[str] = []
    start, depth = opening + 1, 0
    for found in _TOKEN.finditer(text, opening):
        depth += {"(": 1, ")": -1}.get(found.group(), 0)
        if not depth:
            return [*parts, text[start : found.start()]], text[found.end() :]
        if found.group() == "," and depth == 1:
            parts.append(text[start : found.start()])
            start = found.end()
    return [*parts, text[start:]], ""


def _form(name: str, text: str) -> tuple[str, str]:
    """What an object is, without its own name: that may be one that the engine made up."""
    kind, _, rest = name.partition(" ")
    own, on, table = rest.partition(" on ")
    body = _TOKEN.sub(lambda found: "" if _bare(found.group()) == own else found.group(), text)
    return f"{kind} {table}" if on else kind, _plain(body)


def _by_form(after: DatabasePrint) -> set[tuple[str, str]]:
    return {_form(name, text) for name, text in after.objects.items() if name.startswith("index ")}


def _went_along(name: str, text: str, spoken: Mapping[str, _Spoken], before: DatabasePrint, lineage: Lineage) -> bool:
    """Whether an index, trigger, rule or policy went with its table, or with a column of it that is gone."""
    kind, _, rest = name.partition(" ")
    if kind not in ("index", "trigger", "rule", "policy"):
        return False
    table = rest.partition(" on ")[2] or _table_of(text)
    if table in lineage.dropped_tables:
        return True
    its = next((one for one in spoken.values() if one.old_name == table), None)
    if its is None or table not in before.tables:
        return False
    if its.is_made_anew:
        return True
    gone = frozenset(its.free & set(before.tables[table].names))
    return kind == "index" and _speaks_of(text, gone)


def _table_of(text: str) -> str:
    found = re.search(r"""(?i)\bON\s+(?:ONLY\s+)?((?:[\w]+|"[^"]+"|`[^`]+`|\[[^\]]+\])(?:\.(?:\w+|"[^"]+"))?)""", text)
    if found is None:
        return ""
    last = found.group(1)
    return _bare(last.removeprefix("public."))

"""What becomes of the site's settings release by release: shown, planned, written and proved from here."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from fnmatch import fnmatchcase

from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.release.moves import moved
from yellow_ladder.release.settings import SettingsChanges
from yellow_ladder.release.sheet import ReleaseSheet
from yellow_ladder.release.versions import Version
from yellow_ladder.settings.converting import take_over
from yellow_ladder.settings.document import Document, merge_documents
from yellow_ladder.settings.merging.outcomes import WHOLE_FILE, Answer, Fate, Outcome, Sides
from yellow_ladder.settings.reading import read_settings, unreadable
from yellow_ladder.settings.tree import Broken
from yellow_ladder.settings.words import REQUIRED, Leaving, come_in, say_after, say_before, say_to_base


@dataclass(frozen=True, slots=True)
class Prepared:
    """What the administrator has made ready to stand in a file's place, once: at the first release in `rungs`."""

    raw: bytes
    name: str
    rungs: str


@dataclass(frozen=True, slots=True)
class OwnFile:
    """One settings file of the site, and what the site file says of it."""

    file: str
    raw: bytes
    form: str = ""
    encoding: str = ""
    on_conflict: str = "ask"  # ask, mine, new
    keys: Mapping[str, str] = field(default_factory=dict)  # pattern of keys -> mine or new
    is_new: bool = False  # not there yet: a release on the way brings it
    prepared: Prepared | None = None
    in_release: str = ""  # the path that sheets know it by, where it is not its own

    def policy(self, key: str) -> str:
        """What the site file says of conflicts about a key."""
        for pattern, word in self.keys.items():
            if fnmatchcase(key, pattern):
                return word
        return self.on_conflict


@dataclass(frozen=True, slots=True)
class Shipped:
    """A settings file as a release ships it; `raw` is None where it ships none."""

    raw: bytes | None
    where: str = ""


@dataclass(frozen=True, slots=True)
class OnTheWay:
    """One release of the way: version, sheet, and the settings files that it ships, by their path here before."""

    version: str
    sheet: ReleaseSheet
    shipped: Mapping[str, Shipped] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Told:
    """What becomes of one key at one release. A value that sounds like a secret is shown by nobody."""

    file: str
    version: str
    outcome: Outcome

    @property
    def is_open(self) -> bool:
        """Whether somebody has to decide."""
        return self.outcome.fate is Fate.CONFLICT


@dataclass(frozen=True, slots=True)
class FileForecast:
    """One file: how it is read, what it was compared with, what it will be after each release that has it."""

    file: str
    form: str
    base: str  # where the old release's file came from; empty where there is none
    before: bytes
    after: Mapping[str, bytes]  # by version
    told: tuple[Told, ...]
    is_new: bool = False

    @property
    def summary(self) -> tuple[Told, ...]:
        """What is told, each key that only stays but once, under the name that it has in the end."""
        last = {one.outcome.key: place for place, one in enumerate(self.told)}
        renamed = {one.outcome.old_key: place for place, one in enumerate(self.told) if one.outcome.old_key}
        found = []
        for place, one in enumerate(self.told):
            stays = one.outcome.fate in (Fate.KEPT, Fate.LEFT_OUT) and not one.outcome.took
            # A value that is written otherwise on the way is told, too.
            stays = stays and one.outcome.result in (None, one.outcome.sides.mine)
            key = one.outcome.key
            if not stays or (last[key] == place and renamed.get(key, -1) < place):
                found.append(one)
        return tuple(found)


@dataclass(frozen=True, slots=True)
class Forecast:
    """All files."""

    files: tuple[FileForecast, ...]

    @property
    def told(self) -> tuple[Told, ...]:
        """What becomes of every key that changes or stays against the release, in order."""
        return tuple(one for file in self.files for one in file.told)

    @property
    def summary(self) -> tuple[Told, ...]:
        """The same with each key that only stays told once, under the name that it has in the end."""
        return tuple(one for file in self.files for one in file.summary)

    @property
    def open(self) -> tuple[Told, ...]:
        """Conflicts that nobody has decided."""
        return tuple(one for one in self.told if one.is_open)

    def of(self, file: str) -> FileForecast:
        """The forecast of one file."""
        return next(one for one in self.files if one.file == file)


Ask = Callable[[str, str, Sides], Answer | None]
"""Decides a conflict by file, key and values."""
Convert = Callable[[OnTheWay, SettingsChanges, bytes], bytes]
"""Runs a release's converter on a copy of a file; raises AnswerNo where it fails."""


def cannot_convert(step: OnTheWay, changes: SettingsChanges, raw: bytes) -> bytes:
    """Where nothing may be run."""
    del raw
    text = f"{changes.file} is converted by a program of {step.version}, which is not run here"
    raise AnswerNo(Problem("settings-converter", text, "see `yl settings`", changes.file))


@dataclass(slots=True)
class _Carried:
    own: OwnFile
    mine: Document
    base: Document | None
    where: str
    path: str
    is_there: bool = True
    after: dict[str, bytes] = field(default_factory=dict)
    told: list[Told] = field(default_factory=list)


def foresee(
    own: Sequence[OwnFile],
    base: Mapping[str, Shipped],
    way: Sequence[OnTheWay],
    ask: Ask,
    convert: Convert = cannot_convert,
) -> Forecast:
    """Merge every file release by release.

    Raises BadInput for a file that is not of its format, AnswerNo for a value that a release cannot be given as it
    wants it.
    """
    carried = {one.file: _begin(one, base.get(one.file, Shipped(None))) for one in own}
    for step in way:
        leaving: list[Leaving] = []
        for one in carried.values():
            one.path = moved(one.path, step.sheet.files.moved)
            leaving += _step(one, step, ask, convert)
        for one in carried.values():
            came = [key for key in leaving if key.file == one.path]
            told = come_in(one.mine, came)
            one.told += [Told(one.own.file, step.version, outcome) for outcome in told]
            one.is_there = one.is_there or bool(one.mine.raw)
            if one.is_there:
                one.after[step.version] = one.mine.raw
        lost = [key for key in leaving if key.file not in [one.path for one in carried.values()]]
        if lost:
            text = f"{step.version} wants {lost[0].old_key} in {lost[0].file}, which keep.settings does not name"
            raise AnswerNo(Problem("settings-moved", text, f'add {{ file = "{lost[0].file}" }} to keep.settings'))
    return Forecast(
        tuple(
            FileForecast(
                one.own.file, one.mine.form.name, one.where, one.own.raw, one.after, tuple(one.told), one.own.is_new
            )
            for one in carried.values()
        )
    )


def _begin(own: OwnFile, shipped: Shipped) -> _Carried:
    mine = read_settings(own.raw, own.form, own.file, encoding=own.encoding)
    base = None
    if shipped.raw is not None:
        base = _as_mine(shipped.raw, mine, own)
    where, path = shipped.where if base is not None else "", own.in_release or own.file
    return _Carried(own, mine, base, where, path, not own.is_new)


def _as_mine(raw: bytes, mine: Document, own: OwnFile) -> Document | None:
    """A release's file in the format of the site's; None where it is not of that format."""
    try:
        return Document(raw, mine.form, own.encoding)
    except Broken:
        return None


def _step(one: _Carried, step: OnTheWay, ask: Ask, convert: Convert) -> list[Leaving]:
    """One file through one release; returns the keys that leave it."""
    changes = [change for change in step.sheet.settings if change.file == one.path]
    name = f"{one.own.file} at {step.version}"
    if _takes_prepared(one, step):
        return []
    if not one.is_there and step.shipped.get(one.own.file, Shipped(None)).raw is not None:
        return _comes(one, step, changes)
    try:
        told = _converted(one, step, changes, convert)
        before, leaving = say_before(one.mine, one.base, changes)
        told += before
        shipped = step.shipped.get(one.own.file, Shipped(None))
        if one.base is not None:
            say_to_base(one.base, changes)
        if shipped.raw is not None:
            new = _as_mine(shipped.raw, one.mine, one.own)
            lists = {key: kind for change in changes for key, kind in change.lists.items()}
            told += _merge(one, new, shipped.raw, ask, lists)
            one.base = _as_mine(shipped.raw, one.mine, one.own)
        if one.base is not None:
            say_after(one.base, changes)
        required = {added.key for change in changes for added in change.added}
        told = [_required(outcome) if outcome.key in required else outcome for outcome in told]
        told += say_after(one.mine, changes)
    except Broken as fault:
        raise unreadable(name, one.own.form, fault) from fault
    one.told += [Told(one.own.file, step.version, outcome) for outcome in told]
    return leaving


def _takes_prepared(one: _Carried, step: OnTheWay) -> bool:
    """Put what was made ready for this release in the file's place; True where that was done."""
    prepared = one.own.prepared
    if prepared is None or not Version(step.version).is_in(prepared.rungs):
        return False
    one.own = replace(one.own, prepared=None)
    one.mine = read_settings(prepared.raw, one.own.form, one.own.file, prepared.name, one.own.encoding)
    shipped = step.shipped.get(one.own.file, Shipped(None)).raw
    one.base = None if shipped is None else _as_mine(shipped, one.mine, one.own)
    sides = Sides(None, None, None)
    why = f"{prepared.name}, which you prepared, takes its place"
    one.told.append(Told(one.own.file, step.version, Outcome(WHOLE_FILE, Fate.KEPT, sides, None, why=why)))
    return True


def _comes(one: _Carried, step: OnTheWay, changes: Sequence[SettingsChanges]) -> list[Leaving]:
    """A file that this release brings, as it ships it."""
    raw = step.shipped[one.own.file].raw or b""
    one.mine = read_settings(raw, one.own.form, one.path, encoding=one.own.encoding)
    one.base = _as_mine(raw, one.mine, one.own)
    why = f"{step.version} brings it"
    told = [Outcome(WHOLE_FILE, Fate.NEW, Sides(None, None, None), None, why=why), *say_after(one.mine, changes)]
    one.told += [Told(one.own.file, step.version, outcome) for outcome in told]
    one.is_there = True
    return []


def _converted(one: _Carried, step: OnTheWay, changes: Sequence[SettingsChanges], convert: Convert) -> list[Outcome]:
    """Let the release's converter make the site's file what the release wants, and the old release's, to compare."""
    told: list[Outcome] = []
    for change in changes:
        if change.converter is not None and one.is_there:
            base = one.base
            result = convert(step, change, one.mine.raw)
            one.mine, said = take_over(one.mine, base, result, one.path, one.own.encoding)
            if base is not None:
                # With its comments as well: else every comment would count as one of the site's own.
                result = convert(step, change, base.raw)
                base, _ = take_over(base, base, result, one.path, one.own.encoding)
                one.base = base if base.form is one.mine.form else None
            told += said
    return told


def _required(outcome: Outcome) -> Outcome:
    return replace(outcome, why=REQUIRED) if outcome.fate is Fate.NEW else outcome


def _merge(one: _Carried, new: Document | None, raw: bytes, ask: Ask, lists: Mapping[str, str]) -> list[Outcome]:
    """Merge the release's file in; a file that cannot be merged is one conflict as a whole."""

    def decide(key: str, sides: Sides) -> Answer | None:
        policy = one.own.policy(key)
        if policy != "ask":
            return Answer(policy)
        return ask(one.own.file, key, sides)

    if new is not None:
        try:
            merged = merge_documents(one.base, one.mine, new, decide, lists)
        except Broken:
            pass
        else:
            one.mine = Document(merged.raw, one.mine.form, one.own.encoding)
            return list(merged.outcomes)
    sides = Sides(None, one.mine.raw.decode(errors="replace"), raw.decode(errors="replace"))
    answer = decide(WHOLE_FILE, sides)
    if answer is not None and answer.take == "new":
        one.mine = read_settings(raw, "", one.path, encoding=one.own.encoding)
    elif answer is not None and answer.take == "value":
        one.mine = read_settings(answer.value.encode(), "", one.path)
    what = Fate.CONFLICT if answer is None else {"new": Fate.FOLLOWS}.get(answer.take, Fate.KEPT)
    return [Outcome(WHOLE_FILE, what, replace(sides, base=None), None, answer.take if answer else "")]

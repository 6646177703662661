"""Many differences in few lines: what a program has done to a folder is told of the folder, and counted, and so are
dozens of indexes that came to have other names.

Every one of them stays in the proof. Of a few, each is told; nobody reads ten thousand lines.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from yellow_ladder.files.manifest import FileChange
from yellow_ladder.fingerprints.verdicts import TableVerdict, Verdict
from yellow_ladder.words import count_of

MOST_LINES = 12
_MOST_PARTS = 6
_PLURALS = {"index": "indexes", "policy": "policies", "statistics": "statistics", "materialized": "materialized views"}


class Became(StrEnum):
    """What became of a file, to be counted."""

    CAME = "came"
    GONE = "missing"
    CONTENT = "with other content"
    RENAMED = "renamed"
    OTHER = "otherwise changed"


_BY_CHANGE = {FileChange.ADDED: Became.CAME, FileChange.MISSING: Became.GONE, FileChange.CONTENT: Became.CONTENT}


@dataclass(frozen=True, slots=True)
class FileFault:
    """A file that is not as it should be: its path, what became of it in words, and to be counted."""

    path: str
    what: str
    became: Became

    def __str__(self) -> str:
        """For people."""
        return f"file {self.path}: {self.what}"


def became(change: FileChange) -> Became:
    """What a change is counted as."""
    return _BY_CHANGE.get(change, Became.OTHER)


def in_short(faults: Sequence[FileFault]) -> list[str]:
    """For people: each by itself where there are few, else by the folders that they have in common."""
    if len(faults) <= MOST_LINES:
        return [str(one) for one in faults]
    found = []
    for folder, some in _parted(_folder_of_all(faults), faults):
        found += [_of_folder(folder, some)] if len(some) > 1 else [str(one) for one in some]
    return found


def data_in_short(verdicts: Mapping[str, Sequence[TableVerdict]]) -> list[str]:
    """The same of data: rows, values and tables each by itself; of tables that came, and of definitions that are gone
    or came, each kind by its number where there are many, behind all else.
    """
    listed, folded = list[str](), defaultdict[tuple[str, str, str], list[TableVerdict]](list)
    for name, found in verdicts.items():
        differing = [one for one in found if one.verdict is Verdict.DIFFERS]
        kinds = Counter(_folded_as(one) for one in differing)
        for one in differing:
            kind, remark = _folded_as(one)
            if kind and kinds[kind, remark] > MOST_LINES:
                folded[name, kind, remark].append(one)
            else:
                listed += [f"{name}.{one.table}: {text}" for text in one.remarks]
    for (name, kind, remark), some in folded.items():
        many = count_of(len(some), kind, _PLURALS.get(kind, ""))
        told = remark.replace("is gone", "are gone").replace("declares it", "declares them")
        listed.append(f"{name}: {many} {told}; the first is {some[0].table.removeprefix(f'{kind} ')}")
    return listed


def _folded_as(one: TableVerdict) -> tuple[str, str]:
    """What it is told as together with its like, and what is said of it; nothing where it is told by itself."""
    if len(one.remarks) != 1 or one.rows_before is not None or ", and no release declares it" not in one.remarks[0]:
        return "", ""
    remark = one.remarks[0]
    if one.rows_after is not None:
        return ("table", remark) if remark.startswith("appeared,") else ("", "")
    return (one.table.partition(" ")[0], remark) if remark.startswith(("appeared,", "is gone,")) else ("", "")


def _of_folder(folder: str, faults: Sequence[FileFault]) -> str:
    counts = Counter(one.became for one in faults)
    told = ", ".join(f"{count:,} {kind}" for kind, count in counts.most_common())
    place = f"below {folder}" if folder else "below root"
    return f"{count_of(len(faults), 'file')} {place}: {told}; the first is {faults[0].path}: {faults[0].what}"


def _parted(folder: str, faults: Sequence[FileFault]) -> list[tuple[str, Sequence[FileFault]]]:
    """By what lies in a folder, where that makes few parts; else all of it as one."""
    parts: dict[str, list[FileFault]] = defaultdict(list)
    start = len(folder) + 1 if folder else 0
    for one in faults:
        parts[one.path[start:].partition("/")[0]].append(one)
    if len(parts) > _MOST_PARTS:
        return [(folder, faults)]
    return [(_folder_of_all(some) if len(some) > 1 else folder, some) for some in parts.values()]


def _folder_of_all(faults: Sequence[FileFault]) -> str:
    """The deepest folder that all of them lie in; one that came or went with all that is in it counts as that."""
    parts = [one.path.split("/") for one in faults]
    shared = []
    for names in zip(*parts, strict=False):
        if len(set(names)) > 1:
            break
        shared.append(names[0])
    return "/".join(shared)

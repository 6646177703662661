"""A whole tree looked at by two processes, and what is remembered of it, so that unchanged files are not read again."""

from __future__ import annotations

import contextlib
import json
import marshal
import os
import select
import stat
import subprocess
import sys
import time
from collections import deque
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any

import blake3

from yellow_ladder.durable import write_memo
from yellow_ladder.files import looking
from yellow_ladder.files.entry import Entry, Manifest, kind_of
from yellow_ladder.files.listing import Listing
from yellow_ladder.files.looking import FolderLook, Known, Looker, Row
from yellow_ladder.files.store import Store

_BATCH, _IN_FLIGHT = 8, 2
_TOO_FRESH_NS = 2_000_000_000
_HELPER_FROM_FOLDERS = 24
_UNKNOWN = "?"  # no signature is this
FORMAT = 2


@dataclass(frozen=True, slots=True)
class TreeRules:
    """What is left out (tree paths, and a pattern of names) and which folders are described without being read."""

    alone: frozenset[str] = frozenset()
    names: str = ""
    unread: tuple[str, ...] = ()

    def as_list(self) -> list[Any]:
        """For the helper process and for keys of what is remembered."""
        return [sorted(self.alone), self.names, list(self.unread)]


@dataclass(slots=True)
class Tree:
    """What a look found: every folder, whether anything differs from what was remembered, what could not be read."""

    folders: dict[str, FolderLook]
    remembered: Memory
    began_ns: int
    stash: Store = field(default_factory=Store)
    stashed: dict[str, tuple[int, int]] = field(default_factory=dict)

    @property
    def is_as_remembered(self) -> bool:
        """Whether every folder is exactly as it was remembered, none more and none less."""
        same = all(look.same for look in self.folders.values())
        return same and self.folders.keys() == self.remembered.signatures.keys()

    @property
    def troubles(self) -> list[str]:
        """Folders and files that could not be read."""
        return [look.trouble for look in self.folders.values() if look.trouble]

    def rows(self, look: FolderLook) -> list[Row]:
        """The entries of a folder in byte order: folders as they are now, files from memory where they are the same."""
        if look.path in self.stashed:
            rows: list[Row] = marshal.loads(self.stash.read(*self.stashed[look.path]))  # noqa: S302  written below
            return rows
        if not look.same:
            return sorted(look.rows, key=_bytes_of_name)
        files = [row for row in self.remembered.rows(look.path) if not stat.S_ISDIR(row[1])]
        return sorted([*files, *look.rows], key=_bytes_of_name)

    def manifest(self) -> Manifest:
        """Every entry by tree path, in the order of a walk."""
        return Listing.of(self._entries())

    def _entries(self) -> Iterator[Entry]:
        links: dict[tuple[int, int], str] = {}
        for folder, rows in self.by_folder():
            for row in rows:
                yield entry_of(f"{folder}/{row[0]}" if folder else row[0], row, links)

    def by_folder(self) -> Iterator[tuple[str, list[Row]]]:
        """Every folder with its entries, a folder before those in it."""
        pending = [""] if "" in self.folders else []
        while pending:
            path = pending.pop()
            look = self.folders[path]
            yield path, self.rows(look)
            pending += sorted((one for one in look.subfolders if one in self.folders), key=os.fsencode, reverse=True)

    def take(self, look: FolderLook) -> None:
        """Take what was seen of a folder; the entries of many folders are kept beside memory."""
        self.folders[look.path] = look
        if not look.same:
            rows = marshal.dumps(sorted(look.rows, key=_bytes_of_name))
            self.stashed[look.path] = (self.stash.size, len(rows))
            self.stash.write(rows)
            look.rows = []


def _bytes_of_name(row: Row) -> bytes:
    return os.fsencode(row[0])


def entry_of(path: str, row: Row, links: dict[tuple[int, int], str]) -> Entry:
    """A row as an entry; `links` remembers the first path of each file with several names."""
    _, mode, uid, gid, size, modified, inode, changed, device, target, digest = row
    same_as = ""
    if device:
        first = links.setdefault((device, inode), path)
        same_as = first if first != path else ""
    return Entry(
        path, kind_of(mode), stat.S_IMODE(mode), uid, gid, size, modified, digest, target, inode, changed, same_as
    )


@dataclass(slots=True)
class Memory:
    """What an earlier look left in a folder: signatures (`index.json`), rows (`entries.jsonl`), and a result.

    Rows stand on one line for each folder and are read only for folders that are asked for. Anything unreadable is
    as if nothing had been remembered.
    """

    folder: Path | None
    key: str
    signatures: dict[str, str] = field(default_factory=dict)
    places: dict[str, tuple[int, int]] = field(default_factory=dict)
    result: Mapping[str, Any] | None = None
    result_key: str = ""
    stamp: str = ""
    _stream: IO[bytes] | None = None

    @staticmethod
    def load(folder: Path | None, key: str) -> Memory:
        """Read what is remembered under `key`; another key is another tree or other rules."""
        if folder is None:
            return Memory(None, key)
        with contextlib.suppress(OSError, ValueError, KeyError, TypeError):
            record = json.loads((folder / "index.json").read_bytes())
            if (record["format"], record["key"]) == (FORMAT, key):
                places = {path: (int(low), int(length)) for path, (_, low, length) in record["folders"].items()}
                signatures = {path: str(one[0]) for path, one in record["folders"].items()}
                memory = Memory(folder, key, signatures, places, record["result"], record["result_key"])
                memory.stamp = str(record["stamp"])
                stream = memory._stream = (folder / "entries.jsonl").open("rb")
                if stream.readline().strip() == memory.stamp.encode():
                    return memory
                stream.close()
        return Memory(folder, key)

    def rows(self, path: str) -> list[Row]:
        """The remembered entries of a folder; none where they cannot be read."""
        if self._stream is None or path not in self.places:
            return []
        low, length = self.places[path]
        self._stream.seek(low)
        return [tuple(row) for row in json.loads(self._stream.read(length))]

    def known(self, path: str) -> Known:
        """Digests of a folder's files, with what shows that nobody wrote to them since.

        A file that had changed in the last seconds before the look is not among them: a later write in the same tick
        of the clock could not be told.
        """
        with contextlib.suppress(OSError, ValueError, TypeError):
            before = int(self.stamp.partition("-")[0], 16) - _TOO_FRESH_NS
            return {r[0]: (r[6], r[4], r[7], r[10]) for r in self.rows(path) if r[10] and r[7] < before}
        return {}

    def close(self) -> None:
        """Let go of the file."""
        if self._stream is not None:
            self._stream.close()
            self._stream = None


def look_at_tree(root: Path, rules: TreeRules, memory: Memory) -> Tree:
    """Look at every folder below `root`; files that `memory` knows as untouched are not read again."""
    tree = Tree({}, memory, time.time_ns())
    pending = deque([""])
    looker = Looker(str(root), *rules.as_list())
    with _Helper(root, rules) as helper:
        while pending or helper.asked:
            if len(pending) >= _HELPER_FROM_FOLDERS or helper.is_running:
                helper.ask(pending, memory)
            looks = [looker.look(*_question(pending.popleft(), memory)) for _ in range(min(_BATCH, len(pending)))]
            looks += helper.answers(wait=not looks)
            for look in looks:
                if look.differs:
                    look = looker.look(*_question(look.path, memory, again=True))
                tree.take(look)
                pending.extend(look.subfolders)
            pending.extend(helper.given_up())
    return tree


def _question(path: str, memory: Memory, *, again: bool = False) -> tuple[str, str, Known | None]:
    """What to ask of a folder: what is known of its files is fetched only where its signature does not stand."""
    if path not in memory.places:
        return path, "", {}
    # A question stays small, so that asking never waits for a helper that waits to be heard.
    return path, memory.signatures[path] or _UNKNOWN, memory.known(path) if again else None


class _Helper:
    """A second process that looks at folders; where it cannot be had, the first one does it all."""

    def __init__(self, root: Path, rules: TreeRules) -> None:
        self._rules = [str(root), *rules.as_list()]
        self._process: subprocess.Popen[bytes] | None = None
        self._dead = (os.cpu_count() or 1) < 2
        self.asked: deque[list[str]] = deque()
        self._lost: list[str] = []

    @property
    def is_running(self) -> bool:
        return self._process is not None and not self._dead

    def __enter__(self) -> _Helper:
        return self

    def ask(self, pending: deque[str], memory: Memory) -> None:
        """Hand over batches while two are not under way."""
        while not self._dead and len(self.asked) < _IN_FLIGHT and len(pending) > _BATCH:
            batch = [pending.pop() for _ in range(_BATCH)]
            self.asked.append(batch)
            try:
                self._send([_question(path, memory) for path in batch])
            except OSError:
                self._give_up()

    def _send(self, message: list[Any]) -> None:
        if self._process is None:
            # Alone and without looking for packages: it starts in the time that reading two folders takes.
            self._process = subprocess.Popen(
                [sys.executable, "-I", "-S", looking.__file__, str(Path(blake3.__file__).parents[1])],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
                start_new_session=True,  # Ctrl-C is for the command, which ends its helper
            )
            self._write(self._rules)
        self._write(message)

    def _write(self, message: list[Any]) -> None:
        if self._process is not None and self._process.stdin is not None:
            marshal.dump(message, self._process.stdin)
            self._process.stdin.flush()

    def answers(self, *, wait: bool) -> list[FolderLook]:
        """What the helper has found by now; with `wait`, at least one answer where one is due."""
        found: list[FolderLook] = []
        process = self._process
        while self.asked and process is not None and process.stdout is not None:
            if not wait and not select.select([process.stdout], [], [], 0)[0]:
                break
            try:
                answer = marshal.load(process.stdout)  # noqa: S302  the other end is this program
            except (EOFError, ValueError, TypeError, OSError):
                self._give_up()
                break
            self.asked.popleft()
            found += [FolderLook.from_tuple(one) for one in answer]
            wait = False
        return found

    def _give_up(self) -> None:
        self._dead = True
        self._lost = [path for batch in self.asked for path in batch]
        self.asked.clear()

    def given_up(self) -> list[str]:
        """Folders that were asked for and will not be answered."""
        lost, self._lost = self._lost, []
        return lost

    def __exit__(self, *_: object) -> None:
        if self._process is not None:
            self._process.kill()
            with contextlib.suppress(BrokenPipeError), self._process:
                pass


def remember(tree: Tree, result_key: str, result: Mapping[str, Any]) -> None:
    """Write down what was found. A folder that changed in the last seconds is left out: a later write to it in the
    same tick of the clock could not be told.
    """
    memory = tree.remembered
    if memory.folder is None or (tree.is_as_remembered and memory.result_key == result_key):
        return
    stamp = f"{tree.began_ns:x}-{os.getpid():x}"
    folders: dict[str, tuple[str, int, int]] = {}
    with contextlib.suppress(OSError):  # remembering is a favour: a full disk or a foreign folder ends nothing
        write_memo(memory.folder / "entries.jsonl", _lines(tree, stamp, folders))
        if not all(signature for signature, _, _ in folders.values()):
            result_key = ""
        index = {
            "format": FORMAT, "key": memory.key, "stamp": stamp, "folders": folders,
            "result_key": result_key, "result": result,
        }  # fmt: skip
        write_memo(memory.folder / "index.json", [json.dumps(index).encode()])


def _lines(tree: Tree, stamp: str, folders: dict[str, tuple[str, int, int]]) -> Iterator[bytes]:
    """The stamp, then a line for each folder; notes in `folders` where it stands."""
    yield f"{stamp}\n".encode()
    low = len(stamp) + 1
    for path, look in tree.folders.items():
        line = json.dumps(tree.rows(look), separators=(",", ":")).encode() + b"\n"
        can_be_remembered = look.same or (look.newest_ns < tree.began_ns - _TOO_FRESH_NS and not look.trouble)
        folders[path] = (look.signature if can_be_remembered else "", low, len(line))
        low += len(line)
        yield line

"""Lists of entries that are never held whole: JSON Lines in the order of a walk, read piece by piece.

A list of a million files takes three hundred megabytes as a file and several times that as objects. Here only the
place of every piece of it is held; going through it in order decodes each piece once, and so does looking up paths in
about that order, which is how trees are walked, archived and compared.
"""

from __future__ import annotations

import bisect
import contextlib
import heapq
import itertools
import json
import os
from abc import ABC, abstractmethod
from collections.abc import Callable, ItemsView, Iterable, Iterator, Mapping, ValuesView
from pathlib import Path
from typing import IO, Any

import msgspec

from yellow_ladder.durable import replaced_whole
from yellow_ladder.files.entry import Entry, Manifest, Place, place_of
from yellow_ladder.files.store import Store

_PIECE_ENTRIES = 512
_PIECE_BYTES = 192 * 1024
_FIELDS = dict(zip(Entry.__struct_fields__, Entry.__struct_encode_fields__, strict=True))
_encoder = msgspec.json.Encoder()
_decoder = msgspec.json.Decoder(Entry)
Explain = Callable[[str], Exception]


def to_lines(entries: Iterable[Entry]) -> bytes:
    """Entries as JSON Lines; names that are no UTF-8 survive as escapes."""
    batch = list(entries)
    try:
        return _encoder.encode_lines(batch)
    except UnicodeEncodeError:
        return b"".join(map(_one_line, batch))


def _one_line(entry: Entry) -> bytes:
    try:
        return _encoder.encode(entry) + b"\n"
    except UnicodeEncodeError:
        record = {encoded: getattr(entry, name) for name, encoded in _FIELDS.items()}
        return json.dumps(record, separators=(",", ":")).encode("ascii") + b"\n"


def from_lines(lines: bytes) -> list[Entry]:
    """Read what `to_lines` wrote; raises ValueError on anything else."""
    try:
        return _decoder.decode_lines(lines)
    except msgspec.MsgspecError:
        pass  # a name that is no UTF-8 is an escape that this reader does not take
    try:
        return [msgspec.convert(json.loads(line), Entry) for line in lines.splitlines() if line]
    except msgspec.MsgspecError as fault:
        raise ValueError(str(fault)) from fault


class Listing(Manifest):
    """Entries by path, in order. Looking one up is quick where the one before it stood nearby."""

    def __init__(
        self,
        store: Store,
        pieces: list[tuple[int, int, int]],
        starts: list[Place],
        count: int,
        explain: Explain | None = None,
    ) -> None:
        """Take a file of lines; `pieces` are (offset, bytes, number of the first entry), `starts` their first places.

        `explain` makes the error of what turns out to be no list.
        """
        self._store, self._pieces, self._starts, self._count = store, pieces, starts, count
        self._explain = explain
        self._loaded = -1
        self._numbers: dict[str, int] = {}
        self._entries: list[Entry] = []

    def __len__(self) -> int:
        """How many entries there are."""
        return self._count

    def __iter__(self) -> Iterator[str]:
        """Every path, in order."""
        return (entry.path for entry in self.entries())

    def entries(self) -> Iterator[Entry]:
        """Every entry, in order."""
        for number in range(len(self._pieces)):
            yield from self._piece(number)

    def lines(self) -> Iterator[bytes]:
        """Every entry as it is written down, in order."""
        for offset, length, _ in self._pieces:
            yield from self._store.read(offset, length).split(b"\n")[:-1]

    def entry_of(self, line: bytes) -> Entry:
        """The entry of one of the `lines`; raises as looking one up does."""
        return self._read(line + b"\n")[0]

    def entries_from(self, first: Place) -> Iterator[Entry]:
        """Every entry of the pieces that hold a place and what stands behind it, in order."""
        for number in range(max(0, bisect.bisect_right(self._starts, first) - 1), len(self._pieces)):
            yield from self._piece(number)

    def below(self, folder: str) -> Iterator[Entry]:
        """Every entry below a folder, in order: they stand together, and nothing else is read."""
        start, inside = (folder.startswith("/"), os.fsencode(folder).replace(b"/", b"\0"), b""), f"{folder}/"
        for entry in self.entries_from(start):
            if entry.path.startswith(inside):
                yield entry
            elif place_of(entry.path) > start:
                return

    def items(self) -> ItemsView[str, Entry]:
        """Every path with its entry, in order."""
        return _Items(self, self.entries)

    def values(self) -> ValuesView[Entry]:
        """Every entry, in order."""
        return _Values(self, self.entries)

    def __contains__(self, path: object) -> bool:
        """Whether a path is listed."""
        return isinstance(path, str) and self.number_of(path) is not None

    def __getitem__(self, path: str) -> Entry:
        """The entry of a path; raises KeyError."""
        found: Entry | None = self.get(path)
        if found is None:
            raise KeyError(path)
        return found

    def get(self, path: str, default: Any = None) -> Any:
        """The entry of a path, or the default."""
        number = self._numbers.get(path)
        if number is not None:
            return self._entries[number]
        return default if self.number_of(path) is None else self._entries[self._numbers[path]]

    def number_of(self, path: str) -> int | None:
        """Which entry of the list a path is, counted from 0; None where it is not listed."""
        number = self._numbers.get(path)
        if number is None:
            piece = bisect.bisect_right(self._starts, place_of(path)) - 1
            if piece < 0 or piece == self._loaded:
                return None
            self._entries, self._loaded = self._piece(piece), piece
            self._numbers = {entry.path: at for at, entry in enumerate(self._entries)}
            number = self._numbers.get(path)
        return None if number is None else self._pieces[self._loaded][2] + number

    def _piece(self, number: int) -> list[Entry]:
        offset, length, _ = self._pieces[number]
        return self._read(self._store.read(offset, length))

    def _read(self, lines: bytes) -> list[Entry]:
        try:
            found = from_lines(lines)
            if len(found) != lines.count(b"\n"):
                raise ValueError("an empty line stands in it")
            return found
        except ValueError as fault:
            raise self._explain(str(fault)) if self._explain else fault from fault

    @staticmethod
    def opened(path: Path, explain: Explain | None = None) -> Listing:
        """A list that was written down; raises OSError, and where it is none what `explain` makes, or ValueError."""
        with path.open("rb") as stream:
            try:
                return Listing._indexed(stream, explain)
            except ValueError as fault:
                raise explain(str(fault)) if explain else fault from fault

    @staticmethod
    def _indexed(stream: IO[bytes], explain: Explain | None) -> Listing:
        pieces, starts, count, offset = [], [], 0, 0
        while piece := stream.read(_PIECE_BYTES):
            piece += stream.readline()
            first = from_lines(piece[: piece.find(b"\n") + 1])
            if not first:
                raise ValueError("an empty line stands in it")
            pieces.append((offset, len(piece), count))
            starts.append(place_of(first[0].path))
            count += piece.count(b"\n")
            offset += len(piece)
            if not piece.endswith(b"\n"):
                raise ValueError("it ends in the middle of a line")
        if any(later < earlier for earlier, later in itertools.pairwise(starts)):
            raise ValueError("its entries are not in order")
        return Listing(Store(os.dup(stream.fileno())), pieces, starts, count, explain)

    @staticmethod
    def of(entries: Iterable[Entry]) -> Listing:
        """A list of entries that are in order, kept beside memory where it is long; it is gone with the process."""
        writer = ListingWriter.beside_memory()
        for entry in entries:
            writer.add(entry)
        return writer.finish()


class ListingWriter:
    """Writes entries that come in order."""

    def __init__(self, store: Store) -> None:
        """Write to a store of its own."""
        self._store = store
        self._batch: list[Entry] = []
        self._pieces: list[tuple[int, int, int]] = []
        self._starts: list[Place] = []
        self._count = 0

    @staticmethod
    def beside_memory() -> ListingWriter:
        """Write to what is gone with the process, and is kept beside memory where it is long."""
        return ListingWriter(Store())

    def add(self, entry: Entry) -> None:
        """Take an entry."""
        self._batch.append(entry)
        if len(self._batch) == _PIECE_ENTRIES:
            self._flush()

    def _flush(self) -> None:
        if self._batch:
            lines = to_lines(self._batch)
            self._pieces.append((self._store.size, len(lines), self._count))
            self._starts.append(place_of(self._batch[0].path))
            self._store.write(lines)
            self._count += len(self._batch)
            self._batch = []

    def finish(self) -> Listing:
        """What was written."""
        self._flush()
        return Listing(self._store, self._pieces, self._starts, self._count)


@contextlib.contextmanager
def whole_listing(path: Path) -> Iterator[ListingWriter]:
    """A file to write a list to, which is there whole when the block has ended without an error, or not at all."""
    with replaced_whole(path) as descriptor:
        writer = ListingWriter(Store(os.dup(descriptor)))
        yield writer
        writer.finish()


class _Items(ItemsView[str, Entry]):
    def __init__(self, manifest: Manifest, entries: Callable[[], Iterator[Entry]]) -> None:
        super().__init__(manifest)
        self._entries = entries

    def __iter__(self) -> Iterator[tuple[str, Entry]]:
        return ((entry.path, entry) for entry in self._entries())


class _Values(ValuesView[Entry]):
    def __init__(self, manifest: Manifest, entries: Callable[[], Iterator[Entry]]) -> None:
        super().__init__(manifest)
        self._entries = entries

    def __iter__(self) -> Iterator[Entry]:
        return self._entries()


def write_listing(path: Path, entries: Iterable[Entry]) -> None:
    """Write entries that are in order down as a list, whole or not at all; raises OSError."""
    with whole_listing(path) as writer:
        for entry in entries:
            writer.add(entry)


def in_order(manifest: Manifest) -> Iterator[Entry]:
    """The entries of any manifest in the order of a list."""
    if isinstance(manifest, Listing | InOrder):
        return manifest.entries()
    return iter(sorted(manifest.values(), key=lambda entry: place_of(entry.path)))


def merged(*parts: Iterable[Entry]) -> Iterator[Entry]:
    """Entries of several lists, each in order, as one."""
    return heapq.merge(*parts, key=lambda entry: place_of(entry.path))


def spliced(base: Iterable[Entry], runs: Iterable[tuple[Place, Iterable[Entry]]]) -> Iterator[Entry]:
    """Entries in order, with whole runs of others put in: each stands together in the order, from its place on."""
    waiting = sorted(runs, key=lambda run: run[0])
    for entry in base:
        while waiting and waiting[0][0] < place_of(entry.path):
            yield from waiting.pop(0)[1]
        yield entry
    for _, run in waiting:
        yield from run


def side_by_side(expected: Manifest, found: Manifest) -> Iterator[tuple[Entry | None, Entry | None]]:
    """Every path of two manifests, in order, with its entry in each; None where it is not in one of them."""
    return in_pairs(in_order(expected), in_order(found))


def in_pairs(left: Iterator[Entry], right: Iterator[Entry]) -> Iterator[tuple[Entry | None, Entry | None]]:
    """The same of entries that come in order."""
    old, new = next(left, None), next(right, None)
    while old is not None and new is not None:
        if old.path == new.path:
            yield old, new
            old, new = next(left, None), next(right, None)
        elif place_of(old.path) < place_of(new.path):
            yield old, None
            old = next(left, None)
        else:
            yield None, new
            new = next(right, None)
    while old is not None:
        yield old, None
        old = next(left, None)
    while new is not None:
        yield None, new
        new = next(right, None)


class InOrder(Mapping[str, Entry], ABC):
    """A manifest that is made while it is read."""

    @abstractmethod
    def entries(self) -> Iterator[Entry]:
        """Every entry, in order."""

    def __iter__(self) -> Iterator[str]:
        """Every path, in order."""
        return (entry.path for entry in self.entries())

    def __len__(self) -> int:
        """How many entries there are; goes through all of them."""
        return sum(1 for _ in self.entries())

    def items(self) -> ItemsView[str, Entry]:
        """Every path with its entry, in order."""
        return _Items(self, self.entries)

    def values(self) -> ValuesView[Entry]:
        """Every entry, in order."""
        return _Values(self, self.entries)


class Chosen(InOrder):
    """The entries of a manifest that a rule takes."""

    def __init__(self, whole: Manifest, takes: Callable[[str], bool], first: Place | None = None) -> None:
        """Take a manifest and a rule for paths, which takes nothing that stands before `first`."""
        self._whole, self._takes, self._first = whole, takes, first

    def __getitem__(self, path: str) -> Entry:
        """The entry of a path; raises KeyError."""
        if not self._takes(path):
            raise KeyError(path)
        return self._whole[path]

    def get(self, path: str, default: Any = None) -> Any:
        """The entry of a path, or the default."""
        return self._whole.get(path, default) if self._takes(path) else default

    def __contains__(self, path: object) -> bool:
        """Whether a path is taken and listed."""
        return isinstance(path, str) and self._takes(path) and path in self._whole

    def entries(self) -> Iterator[Entry]:
        """Every entry, in order."""
        whole, first = self._whole, self._first
        some = whole.entries_from(first) if first is not None and isinstance(whole, Listing) else in_order(whole)
        return (entry for entry in some if self._takes(entry.path))

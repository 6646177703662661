"""Order-free digests of columns.

For each row, a value's 64-bit hash (xxh3 for text and bytes, a mixing function for numbers, each with a tag of its
type) is mixed with the hash of the row's key; the sums of these over all rows, modulo 2**64, are the fingerprint. Sums
and not XOR, so that equal pairs do not cancel out; the key, so that values swapped between rows are seen. The mixing
function is the finaliser of splitmix64 (Steele, Lea, Flood: Fast splittable pseudorandom number generators, 2014).
NULL adds nothing and is counted apart, so that a row without a value and no row at all look alike in a sum.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
from xxhash import xxh3_64_intdigest

from yellow_ladder.fingerprints.records import ColumnSums

Hashes = npt.NDArray[np.uint64]

_TAG_TEXT, _TAG_BYTES = np.uint64(0x51), np.uint64(0xB7)
_TAG_INT, _TAG_REAL = np.uint64(0x1D), np.uint64(0xE3)
_STEP = np.uint64(0x9E3779B97F4A7C15)
_FIRST, _SECOND = np.uint64(0xBF58476D1CE4E5B9), np.uint64(0x94D049BB133111EB)


def mix(numbers: Hashes) -> Hashes:
    """Spread every bit of each number over all 64, one to one."""
    numbers = numbers + _STEP
    numbers = (numbers ^ (numbers >> np.uint64(30))) * _FIRST
    numbers = (numbers ^ (numbers >> np.uint64(27))) * _SECOND
    mixed: Hashes = numbers ^ (numbers >> np.uint64(31))
    return mixed


Present = npt.NDArray[np.bool_] | None
_REMEMBERED_TEXTS = 20_000


class _NotText(Exception):
    """A column of text has a value of another type."""


class _TextHashes(dict[str | None, int]):
    """Remembers the hashes of texts: most columns of text repeat few of them. NULL is 0."""

    def __missing__(self, text: str | None) -> int:
        """Hash a text that was not seen before."""
        if text is None:
            return 0
        if type(text) is not str:
            raise _NotText
        found = self[text] = xxh3_64_intdigest(_encoded(text)) or 1
        return found


def _encoded(text: str) -> bytes:
    return text.encode("utf-8", "surrogatepass")


class ColumnHasher:
    """Hashes one column chunk by chunk.

    Types tell apart: 1, 1.0, '1' and b'1' have four hashes. Raises TypeError for a type that no engine gives.
    """

    def __init__(self) -> None:
        """Begin with no values."""
        self._texts: _TextHashes | None = None
        self._is_new = True

    def hash(self, values: Sequence[Any]) -> tuple[Hashes, Present]:
        """A hash for each value, and a mask of those that are not NULL (None: all are there)."""
        if self._is_new:
            self._is_new = False
            self._texts = _TextHashes() if {str} <= set(map(type, values)) <= {str, type(None)} else None
        if self._texts is not None:
            try:
                return self._hash_remembered(self._texts, values)
            except _NotText:
                self._texts = None
        return hash_values(values)

    def _hash_remembered(self, texts: _TextHashes, values: Sequence[Any]) -> tuple[Hashes, Present]:
        raw = np.fromiter(map(texts.__getitem__, values), dtype=np.uint64, count=len(values))
        if len(texts) > _REMEMBERED_TEXTS:
            self._texts = None  # hardly any text comes twice
        present = raw != 0
        return mix(raw ^ _TAG_TEXT), None if present.all() else present


def hash_values(values: Sequence[Any]) -> tuple[Hashes, Present]:
    """Hash a chunk of which nothing is known; see `ColumnHasher`."""
    types = set(map(type, values))
    if len(types) == 1:
        return _hash_alike(values, types.pop())
    hashes = np.zeros(len(values), dtype=np.uint64)
    present = np.ones(len(values), dtype=np.bool_)
    kinds = np.fromiter(map(id, map(type, values)), dtype=np.uint64, count=len(values))
    for kind in types:
        places = np.flatnonzero(kinds == np.uint64(id(kind)))
        if kind is type(None):
            present[places] = False
        else:
            hashes[places] = _hash_alike([values[place] for place in places.tolist()], kind)[0]
    return hashes, (present if type(None) in types else None)


def _hash_alike(values: Sequence[Any], kind: type) -> tuple[Hashes, Present]:
    count = len(values)
    if kind is str:
        try:
            raw = np.fromiter(map(xxh3_64_intdigest, map(str.encode, values)), dtype=np.uint64, count=count)
        except UnicodeEncodeError:  # lone surrogates
            raw = np.fromiter((xxh3_64_intdigest(_encoded(value)) for value in values), dtype=np.uint64, count=count)
        return mix(np.maximum(raw, np.uint64(1)) ^ _TAG_TEXT), None
    if kind is int:
        return mix(mix(np.array(values, dtype=np.int64).view(np.uint64)) ^ _TAG_INT), None
    if kind is float:
        return mix(mix(np.array(values, dtype=np.float64).view(np.uint64)) ^ _TAG_REAL), None
    if kind is bytes:
        raw = np.fromiter(map(xxh3_64_intdigest, values), dtype=np.uint64, count=count)
        return mix(raw ^ _TAG_BYTES), None
    if kind is type(None):
        return np.zeros(count, dtype=np.uint64), np.zeros(count, dtype=np.bool_)
    raise TypeError(f"a value of type {kind.__name__} has no fingerprint")


def combine_keys(parts: Sequence[Hashes], count: int) -> Hashes:
    """One hash a row from the hashes of its key's columns, in order; a table without a key gets the same for all."""
    combined = np.zeros(count, dtype=np.uint64)
    for part in parts:
        combined = mix(combined + part)
    return mix(combined)


def sum_column(hashes: Hashes, present: Present, keys: Hashes) -> ColumnSums:
    """The fingerprint of one chunk of a column."""
    if present is not None:
        hashes, keys = hashes[present], keys[present]
    keyed = mix(hashes ^ keys)
    return ColumnSums(
        len(hashes), int(np.add.reduce(keyed, dtype=np.uint64)), int(np.add.reduce(hashes, dtype=np.uint64))
    )

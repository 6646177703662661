"""Order-free digests of columns.

For each row, a value's 64-bit hash, with a tag of its type, is mixed with the hash of the row's key; the sums of these
over all rows, modulo 2**64, are the fingerprint. Sums and not XOR, so that equal pairs do not cancel out; the key, so
that values swapped between rows are seen. The mixing function is the finaliser of splitmix64 (Steele, Lea, Flood: Fast
splittable pseudorandom number generators, 2014). NULL adds nothing and is counted apart, so that a row without a value
and no row at all look alike in a sum.

Text and bytes are hashed in words of eight bytes, all of a chunk at once: each word is mixed with a number of its
place, and the sum of them mixed with the length. Long ones are hashed one by one (xxh3).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
from xxhash import xxh3_64_intdigest

from yellow_ladder.database.columns import Column
from yellow_ladder.database.port import FIELD_END, NULL_MARK, ROW_END, CannotPack, Packed, UndecodableText
from yellow_ladder.errors import OwnFault, Problem
from yellow_ladder.fingerprints.records import ColumnSums

Hashes = npt.NDArray[np.uint64]

_TAG_TEXT, _TAG_BYTES = np.uint64(0x51), np.uint64(0xB7)
_PAD = bytes(8)
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


_LONG = 1024
_PLACES = mix(np.arange(1, _LONG // 8 + 1, dtype=np.uint64))
_LAST_BYTES = np.array([(1 << 8 * count) - 1 for count in range(9)], dtype=np.uint64)
Present = npt.NDArray[np.bool_] | None
Places = npt.NDArray[np.int64]


def hash_texts(data: bytes, starts: Places, lengths: Places) -> Hashes:
    """A hash for each piece of `data`, which has eight bytes more than the last piece needs; not tagged."""
    words: Hashes = np.ndarray((len(data) - 7,), dtype="<u8", buffer=data, strides=(1,))
    is_long = lengths > _LONG
    short = np.where(is_long, 0, lengths) if is_long.any() else lengths
    sizes = short.view(np.uint64)
    if not len(short) or short.max() <= 8:
        found = mix(mix((words[starts] & _LAST_BYTES[short]) ^ _PLACES[0]) + sizes)
    else:
        counts = np.maximum((short + 7) >> 3, 1)
        begins = np.cumsum(counts) - counts
        place = np.arange(begins[-1] + counts[-1]) - np.repeat(begins, counts)
        left = np.minimum(np.repeat(short, counts) - 8 * place, 8)
        each = (words[np.repeat(starts, counts) + 8 * place] & _LAST_BYTES[left]) ^ _PLACES[place]
        found = mix(np.add.reduceat(mix(each), begins) + sizes)
    for one in np.flatnonzero(is_long).tolist():
        found[one] = xxh3_64_intdigest(data[starts[one] : starts[one] + lengths[one]])
    return found


def _hash_pieces(pieces: Sequence[bytes]) -> Hashes:
    lengths = np.fromiter(map(len, pieces), dtype=np.int64, count=len(pieces))
    return hash_texts(b"".join([*pieces, _PAD]), np.cumsum(lengths) - lengths, lengths)


def _hash_strings(values: Sequence[str]) -> Hashes:
    joined = "".join(values)
    if not joined.isascii():
        try:
            return _hash_pieces([value.encode() for value in values])
        except UnicodeEncodeError:  # lone surrogates
            return _hash_pieces([value.encode("utf-8", "surrogatepass") for value in values])
    lengths = np.fromiter(map(len, values), dtype=np.int64, count=len(values))
    return hash_texts(joined.encode() + _PAD, np.cumsum(lengths) - lengths, lengths)


def hash_packed(packed: Packed) -> list[tuple[Hashes, Present]]:
    """Hashes and masks by column, as `hash_values` gives them for the same texts.

    Raises CannotPack where a text holds what parts fields or rows, or looks like NULL; UndecodableText where it is no
    UTF-8.
    """
    try:
        packed.data.decode()
    except UnicodeDecodeError as fault:
        raise UndecodableText from fault
    width = len(packed.filled)
    letters = np.frombuffer(packed.data, dtype=np.uint8)
    ends = np.flatnonzero((letters == FIELD_END[0]) | (letters == ROW_END[0]))
    if len(ends) != packed.rows * width or not (letters[ends[width - 1 :: width]] == ROW_END[0]).all():
        raise CannotPack
    starts = np.concatenate([np.zeros(1, dtype=np.int64), ends[:-1] + 1])
    lengths = ends - starts
    hashes = mix(hash_texts(packed.data + _PAD, starts, lengths) ^ _TAG_TEXT)
    absent = (lengths == 1) & (letters[starts] == NULL_MARK[0])
    columns: list[tuple[Hashes, Present]] = []
    for place, filled in enumerate(packed.filled):
        missing = absent[place::width]
        if packed.rows - int(missing.sum()) != filled:
            raise CannotPack
        columns.append((np.where(missing, np.uint64(0), hashes[place::width]), ~missing if missing.any() else None))
    return columns


def hash_column(column: Column) -> tuple[Hashes, Present]:
    """Hashes and mask of a column in bulk, as `hash_values` gives them for the same values."""
    if column.numbers is None:
        if column.starts is None or column.lengths is None:
            raise OwnFault(Problem("no-values", "a column has neither numbers nor texts"))
        tag = _TAG_TEXT if column.is_text else _TAG_BYTES
        hashes = mix(hash_texts(column.data, column.starts, column.lengths) ^ tag)
    else:
        tag = _TAG_INT if column.numbers.dtype == np.int64 else _TAG_REAL
        hashes = mix(mix(column.numbers.view(np.uint64)) ^ tag)
        if column.whole is not None and column.whole.any():
            whole = column.numbers[column.whole].astype(np.int64)
            hashes[column.whole] = mix(mix(whole.view(np.uint64)) ^ _TAG_INT)
    if column.present is None:
        return hashes, None
    return np.where(column.present, hashes, np.uint64(0)), column.present


def hash_values(values: Sequence[Any]) -> tuple[Hashes, Present]:
    """A hash for each value of a chunk, and a mask of those that are not NULL (None: all are there).

    Types tell apart: 1, 1.0, '1' and b'1' have four hashes. Raises TypeError for a type that no engine gives.
    """
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
        return mix(_hash_strings(values) ^ _TAG_TEXT), None
    if kind is int:
        return mix(mix(np.array(values, dtype=np.int64).view(np.uint64)) ^ _TAG_INT), None
    if kind is float:
        return mix(mix(np.array(values, dtype=np.float64).view(np.uint64)) ^ _TAG_REAL), None
    if kind is bytes:
        return mix(_hash_pieces(values) ^ _TAG_BYTES), None
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

"""Columns of a chunk of rows, as buffers and not as objects: what an engine's library gives in bulk."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt


@dataclass(frozen=True, slots=True)
class Column:
    """Values of one column, one for each row of the chunk; `present` tells which are not NULL (None: all).

    Exactly one of the two forms is there. `numbers`: int64 or float64; where `whole` is given, those of the float64
    that it marks stand for integers. `data`: texts, or bytes where `is_text` is false, behind one another, with eight
    bytes more than they need; the value of row n begins at `starts[n]` and has `lengths[n]` bytes.
    """

    present: npt.NDArray[np.bool_] | None
    numbers: npt.NDArray[np.int64] | npt.NDArray[np.float64] | None = None
    whole: npt.NDArray[np.bool_] | None = None
    data: bytes = b""
    starts: npt.NDArray[np.int64] | None = None
    lengths: npt.NDArray[np.int64] | None = None
    is_text: bool = True

"""What is asked of the interpreter's memory."""

from __future__ import annotations

import contextlib
import gc
from collections.abc import Iterator


@contextlib.contextmanager
def gathering_less() -> Iterator[None]:
    """Leave off looking for circles of objects, for work that makes many and no circles: rows, trees of settings.

    The search takes a sixth of reading rows, and a quarter of reading a long settings file.
    """
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()

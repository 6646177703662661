"""Bytes beside memory: what is long and needed for one command lies in a file that nobody else sees."""

from __future__ import annotations

import os
import tempfile

_HELD_BYTES = 4 * 1024**2  # what is shorter needs no file


class Store:
    """Bytes that are written one behind the other and read anywhere: in a file, or in memory while they are few."""

    def __init__(self, descriptor: int | None = None) -> None:
        """Take an open file to have and to close, or begin in memory."""
        self._descriptor = descriptor
        self._held = bytearray()
        self.size = 0

    def write(self, block: bytes) -> None:
        """Add bytes at the end."""
        self.size += len(block)
        if self._descriptor is None:
            self._held += block
            if len(self._held) < _HELD_BYTES:
                return
            block, self._held = bytes(self._held), bytearray()
            with tempfile.TemporaryFile(dir=_roomy()) as nameless:
                self._descriptor = os.dup(nameless.fileno())
        left = memoryview(block)
        try:
            while left:
                left = left[os.write(self._descriptor, left) :]
        except OSError as fault:  # it has no name of its own to be told by
            raise OSError(fault.errno, fault.strerror, _roomy() or tempfile.gettempdir()) from fault

    def read(self, at: int, length: int) -> bytes:
        """Bytes from a place on, less than asked for only at the end."""
        if self._descriptor is None:
            return bytes(self._held[at : at + length])
        return os.pread(self._descriptor, length, at)

    def __del__(self) -> None:
        """A list is read by whoever has it, and its file is let go with the last of them."""
        if self._descriptor is not None:
            os.close(self._descriptor)


def _roomy() -> str | None:
    """A folder for what is long and gone with the process: the usual one may lie in memory."""
    return "/var/tmp" if os.access("/var/tmp", os.W_OK | os.X_OK) else None  # noqa: S108

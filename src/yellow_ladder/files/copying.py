"""Copying entries with everything that belongs to them: content, owner, group, mode, times, extended attributes."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import stat
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.files.attributes import match_attributes, read_attributes

_FICLONE = 0x40049409  # linux/fs.h
_BLOCK = 64 * 1024 * 1024


def copy_entry(source: Path, target: Path) -> None:
    """Copy a file, link or whole folder to a name that is free; links stay links, owners stay owners."""
    kind = nolinks.status_of(source).st_mode
    if stat.S_ISDIR(kind):
        nolinks.make_folder(target, 0o700)
        for name in nolinks.names_in(source):
            copy_entry(source / name, target / name)
        _copy_rights(source, target, os.O_RDONLY | os.O_DIRECTORY)
    elif stat.S_ISLNK(kind):
        status = nolinks.status_of(source)
        nolinks.make_link(target, nolinks.target_of(source))
        nolinks.set_owner(target, status.st_uid, status.st_gid)
        nolinks.set_times(target, status.st_mtime_ns)
    elif stat.S_ISREG(kind):
        _copy_file(source, target)
    # Sockets and pipes belong to a running process, not to the site.


def _copy_file(source: Path, target: Path) -> None:
    """Owner and rights are those of the file that was read, whatever has taken its name meanwhile."""
    reader = nolinks.open_regular(source)
    try:
        writer = nolinks.open_file(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL)
        try:
            _fill(reader, writer)
            _give_rights(reader, writer)
        finally:
            os.close(writer)
    finally:
        os.close(reader)


def _copy_rights(source: Path, target: Path, flags: int) -> None:
    first = nolinks.open_file(source, flags)
    try:
        second = nolinks.open_file(target, flags)
        try:
            _give_rights(first, second)
        finally:
            os.close(second)
    finally:
        os.close(first)


def _give_rights(source: int, target: int) -> None:
    """Owner first: to change it takes rights away from a file."""
    status = os.fstat(source)
    os.fchown(target, status.st_uid, status.st_gid)
    os.fchmod(target, stat.S_IMODE(status.st_mode))
    with contextlib.suppress(OSError):  # the other file system may keep none
        for name in os.listxattr(source):
            with contextlib.suppress(OSError):
                os.setxattr(target, name, os.getxattr(source, name))
    os.utime(target, ns=(status.st_atime_ns, status.st_mtime_ns))


def copy_bytes(source: Path, target: Path) -> None:
    """Copy a file's content to a name that is free, private to its owner and synced.

    Where the file system can share blocks between files, nothing is copied at all.
    """
    reader = nolinks.open_regular(source)
    try:
        writer = nolinks.open_file(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL)
        try:
            _fill(reader, writer)
            os.fsync(writer)
        finally:
            os.close(writer)
    finally:
        os.close(reader)


def _fill(reader: int, writer: int) -> None:
    try:
        fcntl.ioctl(writer, _FICLONE, reader)
    except OSError:
        _copy_all(reader, writer)


def _copy_all(reader: int, writer: int) -> None:
    try:
        while os.copy_file_range(reader, writer, _BLOCK):
            pass
    except OSError as fault:
        if fault.errno not in (errno.EXDEV, errno.EINVAL, errno.ENOSYS, errno.EOPNOTSUPP):
            raise
        while os.sendfile(writer, reader, None, _BLOCK):
            pass


def remove_entry(path: Path) -> None:
    """Remove a file, link or whole folder; nothing there is no error. Links are removed, never followed."""
    nolinks.remove_all(path)


def replace_content(place: Path, raw: bytes, new: Path, like: Path | None = None) -> None:
    """Put another content in a file's place in one instant, with its owner, rights and attributes, or those of another
    that it is to be `like`. It is written at `new` on the same file system, which is where a kill may leave it.
    """
    model = like or place
    status = nolinks.status_of(model)
    remove_entry(new)
    with os.fdopen(nolinks.open_file(new, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as stream:
        stream.write(raw)
        os.fchown(stream.fileno(), status.st_uid, status.st_gid)
        os.fchmod(stream.fileno(), stat.S_IMODE(status.st_mode))
        stream.flush()
        os.fsync(stream.fileno())
    match_attributes(new, read_attributes(model))
    nolinks.rename(new, place)
    nolinks.sync_folder(place.parent)

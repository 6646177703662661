"""Copying entries with everything that belongs to them: content, owner, group, mode, times, extended attributes."""

from __future__ import annotations

import errno
import fcntl
import os
import shutil
import stat
from pathlib import Path

from yellow_ladder.durable import sync_folder


def copy_entry(source: Path, target: Path) -> None:
    """Copy a file, link or whole folder to a name that is free; links stay links, owners stay owners."""
    status = source.lstat()
    if stat.S_ISDIR(status.st_mode):
        target.mkdir(mode=0o700)
        for name in sorted(os.listdir(source)):
            copy_entry(source / name, target / name)
    elif stat.S_ISLNK(status.st_mode):
        target.symlink_to(source.readlink())
    elif stat.S_ISREG(status.st_mode):
        shutil.copyfile(source, target, follow_symlinks=False)
    else:
        return  # sockets and pipes belong to a running process, not to the site
    os.chown(target, status.st_uid, status.st_gid, follow_symlinks=False)
    shutil.copystat(source, target, follow_symlinks=False)


_FICLONE = 0x40049409  # linux/fs.h
_BLOCK = 64 * 1024 * 1024


def copy_bytes(source: Path, target: Path) -> None:
    """Copy a file's content to a name that is free, private to its owner and synced.

    Where the file system can share blocks between files, nothing is copied at all.
    """
    with source.open("rb") as reader:
        descriptor = os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
        with os.fdopen(descriptor, "wb") as writer:
            try:
                fcntl.ioctl(writer.fileno(), _FICLONE, reader.fileno())
            except OSError:
                _copy_all(reader.fileno(), writer.fileno())
            os.fsync(writer.fileno())


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
    try:
        mode = path.lstat().st_mode
    except FileNotFoundError:
        return
    if stat.S_ISDIR(mode):
        shutil.rmtree(path)
    else:
        path.unlink()


def rename_durably(source: Path, target: Path) -> None:
    """Rename and make it last through a power cut."""
    source.rename(target)
    sync_folder(target.parent)
    if source.parent != target.parent:
        sync_folder(source.parent)

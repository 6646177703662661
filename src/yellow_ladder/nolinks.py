"""The one way to touch what lies in a site: by its whole path, with no link followed anywhere on the way.

The account that runs a site owns its folders, and may exchange one of them for a link between any two calls. A path
walked by the kernel would lead out of the site then, with the rights of root. Here every call takes an absolute path
that has no link in it, and the kernel is asked to refuse the walk at the first one (openat2(2), RESOLVE_NO_SYMLINKS);
where it cannot, every folder is opened from the one above it (O_NOFOLLOW). What is done is then done relative to the
folder that was opened. Links that the administrator made are resolved once, by `trusted`.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
import stat
import struct
import sys
from collections.abc import Iterator
from pathlib import Path

from yellow_ladder import whose

AnyPath = str | Path

_AT_FDCWD, _RENAME_EXCHANGE = -100, 2
_OPENAT2, _RESOLVE_NO_SYMLINKS = 437, 0x04  # the same number on every architecture
_FOLDER = os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC
# Opening a pipe would wait for its other end, and a terminal might become ours.
_CAREFULLY = os.O_NOFOLLOW | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC
_NO_SUCH_CALL = (errno.ENOSYS, errno.EPERM)
_CANNOT_EXCHANGE = (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP)


class LinkInTheWay(OSError):
    """A link where none is followed: it belongs to another account, or came while the work was under way."""

    def __init__(self, path: AnyPath) -> None:
        """Name the path that leads through it."""
        super().__init__(errno.ELOOP, "a link is in the way, and is not followed", str(path))


class _Kernel:
    """Whether the kernel walks paths without links by itself; asked once."""

    def __init__(self) -> None:
        self._call = ctypes.CDLL(None, use_errno=True).syscall
        self._can = True

    def opened(self, path: AnyPath, flags: int, mode: int) -> int | None:
        """A descriptor, or None where the kernel has no such call. Raises OSError."""
        sys.audit("yellow_ladder.open", path, flags)
        if not self._can:
            return None
        with_mode = mode if flags & os.O_CREAT else 0
        how = ctypes.create_string_buffer(struct.pack("QQQ", flags, with_mode, _RESOLVE_NO_SYMLINKS), 24)
        while True:
            descriptor = self._call(_OPENAT2, _AT_FDCWD, os.fsencode(path), how, 24)
            if descriptor >= 0:
                return int(descriptor)
            number = ctypes.get_errno()
            if number == errno.EINTR:
                continue
            if number in _NO_SUCH_CALL and not self._has_call():
                self._can = False
                return None
            raise _named(OSError(number, os.strerror(number)), path)

    def _has_call(self) -> bool:
        """Whether a call that must work does: a guard around the program may refuse calls that it does not know."""
        how = ctypes.create_string_buffer(struct.pack("QQQ", _FOLDER, 0, _RESOLVE_NO_SYMLINKS), 24)
        descriptor = self._call(_OPENAT2, _AT_FDCWD, b"/", how, 24)
        if descriptor < 0:
            return False
        os.close(descriptor)
        return True


_kernel = _Kernel()


def open_file(path: AnyPath, flags: int, mode: int = 0o600) -> int:
    """Open `path`, and wait for nobody; the descriptor is not inherited. Raises LinkInTheWay, OSError."""
    # A bare name of a file (O_PATH) is opened for nothing that could wait.
    flags |= os.O_NOFOLLOW | os.O_CLOEXEC if flags & os.O_PATH else _CAREFULLY
    descriptor = _kernel.opened(path, flags, mode)
    if descriptor is not None:
        return descriptor
    folder, name = os.path.split(path)
    above = _step_by_step(folder or ".")
    try:
        return os.open(name or ".", flags, mode, dir_fd=above)
    except OSError as fault:
        raise _named(fault, path) from None
    finally:
        os.close(above)


def open_regular(path: AnyPath) -> int:
    """Open a regular file for reading; raises OSError for anything else."""
    descriptor = open_file(path, os.O_RDONLY)
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        os.close(descriptor)
        raise OSError(errno.EINVAL, "it is not a regular file", str(path))
    return descriptor


def _step_by_step(folder: AnyPath) -> int:
    """Open a folder from the top, each from the one above it."""
    parts = Path(folder).parts
    held = os.open(parts[0] if parts else ".", _FOLDER)
    for part in parts[1:]:
        try:
            below = os.open(part, _FOLDER | os.O_NOFOLLOW, dir_fd=held)
        except OSError as fault:
            raise _named(fault, folder) from None
        finally:
            os.close(held)
        held = below
    return held


def _named(fault: OSError, path: AnyPath) -> OSError:
    """The fault with the whole path; a link told as one."""
    if fault.errno == errno.ELOOP or (fault.errno == errno.ENOTDIR and _leads_through_link(path)):
        return LinkInTheWay(path)
    return OSError(fault.errno, fault.strerror, str(path))


def _leads_through_link(path: AnyPath) -> bool:
    """Only for the words of an error: by now it may be otherwise."""
    whole = Path(path)
    return any(one.is_symlink() for one in (whole, *whole.parents))


@contextlib.contextmanager
def folder_of(path: AnyPath) -> Iterator[tuple[int, str]]:
    """The folder that holds `path`, as a descriptor, and the name in it; raises LinkInTheWay, OSError."""
    folder, name = os.path.split(path)
    descriptor = _kernel.opened(folder or ".", _FOLDER, 0)
    if descriptor is None:
        descriptor = _step_by_step(folder or ".")
    try:
        yield descriptor, name
    finally:
        os.close(descriptor)


def status_of(path: AnyPath) -> os.stat_result:
    """What the file system says of `path` itself; raises OSError."""
    with folder_of(path) as (folder, name):
        return os.stat(name, dir_fd=folder, follow_symlinks=False)


def status_or_none(path: AnyPath) -> os.stat_result | None:
    """The same, or None where there is nothing; raises OSError for anything else."""
    try:
        return status_of(path)
    except (FileNotFoundError, NotADirectoryError):
        return None


def is_there(path: AnyPath) -> bool:
    """Whether there is anything, a link included. What is reached through a link is not there."""
    try:
        return status_or_none(path) is not None
    except LinkInTheWay:
        return False


def is_folder(path: AnyPath) -> bool:
    """Whether there is a folder, and no link to one."""
    try:
        status = status_or_none(path)
    except LinkInTheWay:
        return False
    return status is not None and stat.S_ISDIR(status.st_mode)


def target_of(path: AnyPath) -> str:
    """What a link says; raises OSError."""
    with folder_of(path) as (folder, name):
        return os.readlink(name, dir_fd=folder)


@contextlib.contextmanager
def folder_with_entries(folder: AnyPath) -> Iterator[tuple[int, list[os.DirEntry[str]]]]:
    """A folder's descriptor for as long as the block lasts, and its entries; raises OSError.

    Reading through it what lies in it is safe, wherever the folder is moved meanwhile: it stays its owner's.
    """
    descriptor = open_file(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        with os.scandir(descriptor) as found:
            yield descriptor, list(found)
    finally:
        os.close(descriptor)


def open_regular_in(folder: int, name: str, path: AnyPath) -> int:
    """Open a regular file of an open folder for reading; raises OSError for anything else, with its whole path."""
    try:
        descriptor = os.open(name, os.O_RDONLY | _CAREFULLY, dir_fd=folder)
    except OSError as fault:
        raise _named(fault, path) from None
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        os.close(descriptor)
        raise OSError(errno.ESTALE, "it was a file and is not one any more", str(path))
    return descriptor


@contextlib.contextmanager
def entries_of(folder: AnyPath) -> Iterator[list[os.DirEntry[str]]]:
    """The entries of a folder, whose statuses can be asked within the block; raises OSError."""
    with folder_with_entries(folder) as (_, entries):
        yield entries


def names_in(folder: AnyPath) -> list[str]:
    """The names in a folder, in order; raises OSError."""
    with entries_of(folder) as entries:
        return sorted(entry.name for entry in entries)


def make_folder(path: AnyPath, mode: int = 0o777, *, exist_ok: bool = False) -> None:
    """Make a folder; raises FileExistsError where something is there, unless it is a folder and that is `exist_ok`."""
    with folder_of(path) as (folder, name):
        try:
            os.mkdir(name, mode, dir_fd=folder)
        except FileExistsError:
            status = os.stat(name, dir_fd=folder, follow_symlinks=False)
            if not (exist_ok and stat.S_ISDIR(status.st_mode)):
                raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), str(path)) from None


def make_folders(path: AnyPath, mode: int = 0o777) -> None:
    """Make a folder and those above it that are missing; what is there stays as it is. Raises OSError."""
    try:
        make_folder(path, mode, exist_ok=True)
    except FileNotFoundError:
        make_folders(Path(path).parent, mode)
        make_folder(path, mode, exist_ok=True)


def rename(source: AnyPath, target: AnyPath) -> None:
    """Rename, over what may be at `target`; raises OSError."""
    with folder_of(source) as (before, old), folder_of(target) as (after, new):
        try:
            os.rename(old, new, src_dir_fd=before, dst_dir_fd=after)
        except OSError as fault:
            raise OSError(fault.errno, fault.strerror, str(source), None, str(target)) from None


def exchange_in_one_instant(first: AnyPath, second: AnyPath) -> bool:
    """Swap two names by renameat2(RENAME_EXCHANGE); False where kernel, C library or file system cannot.

    Raises OSError for everything else (missing name, other file system, no rights).
    """
    call = getattr(ctypes.CDLL(None, use_errno=True), "renameat2", None)
    if call is None:
        return False
    with folder_of(first) as (before, old), folder_of(second) as (after, new):
        if call(before, os.fsencode(old), after, os.fsencode(new), _RENAME_EXCHANGE) == 0:
            return True
        number = ctypes.get_errno()
    if number in _CANNOT_EXCHANGE:
        return False
    raise OSError(number, os.strerror(number), str(first), None, str(second))


def make_link(path: AnyPath, target: str) -> None:
    """Make a symbolic link; what it says is not looked at. Raises OSError."""
    with folder_of(path) as (folder, name):
        os.symlink(target, name, dir_fd=folder)


def make_second_name(path: AnyPath, of: AnyPath) -> None:
    """Give the file `of` another name, `path`; raises OSError."""
    with folder_of(of) as (there, first), folder_of(path) as (here, name):
        os.link(first, name, src_dir_fd=there, dst_dir_fd=here, follow_symlinks=False)


def remove_file(path: AnyPath, *, missing_ok: bool = False) -> None:
    """Remove a file or link; raises OSError."""
    try:
        with folder_of(path) as (folder, name):
            os.unlink(name, dir_fd=folder)
    except FileNotFoundError:
        if not missing_ok:
            raise


def remove_empty_folder(path: AnyPath) -> None:
    """Remove a folder; raises OSError where it holds something."""
    with folder_of(path) as (folder, name):
        os.rmdir(name, dir_fd=folder)


def remove_all(path: AnyPath) -> None:
    """Remove a file, link or whole folder; nothing there is no error. Raises OSError."""
    with contextlib.suppress(FileNotFoundError, NotADirectoryError), folder_of(path) as (folder, name):
        _remove_in(folder, name)


def _remove_in(above: int, name: str) -> None:
    try:
        os.unlink(name, dir_fd=above)
        return
    except FileNotFoundError:
        return
    except (IsADirectoryError, PermissionError):
        if not stat.S_ISDIR(os.stat(name, dir_fd=above, follow_symlinks=False).st_mode):
            raise
    folder = os.open(name, os.O_RDONLY | os.O_DIRECTORY | _CAREFULLY, dir_fd=above)
    try:
        for one in os.listdir(folder):
            _remove_in(folder, one)
    finally:
        os.close(folder)
    with contextlib.suppress(FileNotFoundError):
        os.rmdir(name, dir_fd=above)


def set_owner(path: AnyPath, uid: int, gid: int) -> None:
    """Give a file, folder or link an owner and a group; -1 leaves one as it is. Raises OSError."""
    with folder_of(path) as (folder, name):
        os.chown(name, uid, gid, dir_fd=folder, follow_symlinks=False)


def set_times(path: AnyPath, modified_ns: int) -> None:
    """Set the time of modification (and of access) in ns since 1970; raises OSError."""
    with folder_of(path) as (folder, name):
        os.utime(name, ns=(modified_ns, modified_ns), dir_fd=folder, follow_symlinks=False)


@contextlib.contextmanager
def by_itself(path: AnyPath) -> Iterator[str]:
    """A path that leads to exactly the file or folder that is at `path` now, whatever takes its name meanwhile.

    For calls that know no descriptor without rights to read. Raises LinkInTheWay where it is a link, OSError.
    """
    descriptor = open_file(path, os.O_PATH)
    try:
        if stat.S_ISLNK(os.fstat(descriptor).st_mode):
            raise LinkInTheWay(path)
        yield f"/proc/self/fd/{descriptor}"
    finally:
        os.close(descriptor)


def set_mode(path: AnyPath, mode: int) -> None:
    """Set the permission bits of a file or folder; raises LinkInTheWay, OSError."""
    with by_itself(path) as location:
        os.chmod(location, mode)  # noqa: PTH101  a descriptor's name


def sync_folder(folder: AnyPath) -> None:
    """Make the names in `folder` (created, renamed, removed) last through a power cut."""
    descriptor = open_file(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def trusted(path: AnyPath) -> Path:
    """`path` with its links resolved, once. Each must be of root or this account: another could turn it anywhere.

    Raises LinkInTheWay. What is not there yet is taken as it is written.
    """
    # As text: this is asked of hundreds of paths, and each part of a path as an object takes ten times as long.
    left = os.path.abspath(path).split("/")[::-1]  # noqa: PTH100  links are resolved here and not there
    done, followed = "", 0
    while left:
        part = left.pop()
        if part in ("", "."):
            continue
        if part == "..":
            done = done.rpartition("/")[0]
            continue
        here = f"{done}/{part}"
        try:
            status = os.lstat(here)
        except (FileNotFoundError, NotADirectoryError):
            return Path(here, *reversed(left))
        if not stat.S_ISLNK(status.st_mode):
            done = here
            continue
        followed += 1
        if status.st_uid not in whose.ours() or followed > 40:
            raise LinkInTheWay(here)
        target = os.readlink(here)
        left += target.split("/")[::-1]
        done = "" if target.startswith("/") else done
    return Path(done or "/")

"""What the machine itself reads, and when: a file of that kind that was changed is not in effect yet."""

from __future__ import annotations

import os
from pathlib import Path

from yellow_ladder.files.entry import within
from yellow_ladder.files.reading import read_regular
from yellow_ladder.words import some_of

_AT_A_START = "a start of the machine"
# By the manual pages of what reads them: sysctl.d(5), modules-load.d(5), modprobe.d(5), fstab(5), tmpfiles.d(5),
# udev(7), limits.conf(5), pam_env(8), ld.so(8), crypttab(5).
_READ_WHEN = {
    ("etc/sysctl.conf", "etc/sysctl.d", "usr/lib/sysctl.d"): f"`sysctl --system` or {_AT_A_START}",
    ("etc/modules", "etc/modules-load.d", "etc/modprobe.d"): f"the modules were loaded anew, or {_AT_A_START}",
    ("etc/fstab",): f"`mount -a` or {_AT_A_START}",
    ("etc/crypttab", "etc/default/grub", "etc/default/grub.d", "etc/kernel", "boot"): _AT_A_START,
    ("etc/tmpfiles.d", "usr/lib/tmpfiles.d"): f"`systemd-tmpfiles --create` or {_AT_A_START}",
    ("etc/udev/rules.d", "usr/lib/udev/rules.d"): f"`udevadm control --reload` and `udevadm trigger`, or {_AT_A_START}",
    ("etc/ld.so.conf", "etc/ld.so.conf.d"): "`ldconfig`, in what is started after it",
    (
        "etc/security/limits.conf",
        "etc/security/limits.d",
        "etc/environment",
        "etc/profile.d",
    ): "the next session has begun",
}
# Written by packages of the distribution when what they have replaced still runs: a kernel, the C library.
WANTS_START = Path("/run/reboot-required")


def in_effect_after(path: str) -> str:
    """After what a changed file outside root is in effect, where the machine reads it at its own times; else empty."""
    inside = path.lstrip("/")
    return next((when for places, when in _READ_WHEN.items() if within(inside, places)), "")


def wants_a_start(since_ns: int) -> str:
    """Why the machine wants to be started again, if that was asked for since a moment; else empty."""
    mark = WANTS_START
    try:
        if mark.stat().st_mtime_ns <= since_ns:
            return ""
    except OSError:
        return ""
    try:
        said = read_regular(Path(f"{mark}.pkgs"), 64 * 1024, cut=True).decode(errors="replace").split()
        names = f": {some_of(list(dict.fromkeys(said)), 3)}" if said else ""
    except OSError:
        names = ""
    return f"the machine wants to be started again ({os.fspath(mark)}){names}"

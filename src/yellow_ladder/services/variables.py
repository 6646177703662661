"""Variables that a running process has and would not have once it is started from here: it may need them."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping

import psutil

# Of the session that somebody started it in, of the machine's own manager, or given anew to whatever is started.
_OF_SESSIONS = {
    "COLORTERM", "COLUMNS", "DBUS_SESSION_BUS_ADDRESS", "DISPLAY", "EDITOR", "HISTFILE", "HISTSIZE", "HOME", "HOSTNAME",
    "HOSTTYPE", "INVOCATION_ID", "JOURNAL_STREAM", "LANG", "LANGUAGE", "LESSCLOSE", "LESSOPEN", "LINES", "LISTEN_FDS",
    "LISTEN_FDNAMES", "LISTEN_PID", "LOGNAME", "LS_COLORS", "MACHTYPE", "MAIL", "MAINPID", "MANAGERPID",
    "MEMORY_PRESSURE_WATCH", "MEMORY_PRESSURE_WRITE", "NOTIFY_SOCKET", "OLDPWD", "OSTYPE", "PAGER", "PATH", "PS1",
    "PWD", "SHELL", "SHLVL", "STY", "SYSTEMD_EXEC_PID", "TERM", "TMPDIR", "TMUX", "TMUX_PANE", "TZ", "USER",
    "VIRTUAL_ENV", "VIRTUAL_ENV_PROMPT", "VISUAL", "WINDOW", "_",
}  # fmt: skip
_BEGIN = ("GPG_", "LC_", "SSH_", "SUDO_", "XDG_", "YELLOW_LADDER_", "npm_")


def left_out(process: psutil.Process | None, given: Mapping[str, str]) -> dict[str, str]:
    """Those that are not among the `given` ones, with their values; nothing where this account may not look."""
    with contextlib.suppress(psutil.Error, OSError):
        around = process.environ() if process is not None else {}
        return {
            name: value
            for name, value in sorted(around.items())
            if name not in given and name not in _OF_SESSIONS and not name.startswith(_BEGIN)
        }
    return {}

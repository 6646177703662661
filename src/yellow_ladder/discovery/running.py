"""What of an application runs just now: its processes' words, accounts and ports say how it is started."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import psutil

from yellow_ladder import nolinks
from yellow_ladder.files.entry import within
from yellow_ladder.files.reading import read_regular
from yellow_ladder.masking import masked_line

_MOST_WORDS, _LONGEST_WORD = 40, 400
# Programs that run other programs.
INTERPRETERS = {
    "python", "pypy", "node", "nodejs", "deno", "bun", "php", "php-fpm", "perl", "ruby", "java", "lua", "uwsgi",
    "beam.smp",
}  # fmt: skip
_SCRIPTS = {".php", ".py", ".js", ".mjs", ".cjs", ".rb", ".pl", ".lua", ".jar", ".exs"}
_SHELLS = {"sh", "bash", "dash", "zsh", "ksh"}
_VERSION_OF_PROGRAM = re.compile(r"[-\d.]*$")
# What a shell leaves in every process.
_OF_SHELLS = {"PWD", "OLDPWD", "HOME", "_", "TMPDIR"}
_OF_TOOLS = "npm_"  # what a tool that starts scripts tells them of itself
_PID_FOLDERS = (".", "run", "tmp", "tmp/pids", "var/run", "data", "logs", "log")
_PID_BYTES = 32
_NEAR = 6  # a script stands among the first words, after options


@dataclass(frozen=True, slots=True)
class Running:
    """A process of the application that no other one of it has started; `named` are files of root in its words, and
    `written` those that it or its children have open to write to; `alike` counts others that differ in numbers alone;
    `environment` has the variables that name files or folders of root; one that `is_detached` has outlived what
    started it. With a `program`, the words are a name that it has given itself.
    """

    pid: int
    account: str
    words: tuple[str, ...]
    folder: str
    ports: tuple[int, ...]
    named: tuple[str, ...]
    written: tuple[str, ...] = ()
    alike: int = 0
    environment: tuple[tuple[str, str], ...] = ()
    is_detached: bool = False
    program: str = ""  # where the words do not tell it: it has given itself a name of its own
    pid_file: str = ""  # that it, or what started it, has written


def is_set_for(pairs: Sequence[tuple[str, str]], pids: Iterable[int]) -> bool:
    """Whether one of these processes has in its environment all that is set here: it was started with it."""
    for pid in pids:
        with contextlib.suppress(psutil.Error, OSError):
            around = psutil.Process(pid).environ()
            if pairs and all(around.get(name) == value for name, value in pairs):
                return True
    return False


def running_in(root: Path) -> list[Running]:
    """Processes whose program, script or folder lies in root; those that they started themselves are left out."""
    ours = {os.getpid(), *(one.pid for one in psutil.Process().parents())}
    found: dict[int, tuple[psutil.Process, list[str]]] = {}
    for process in psutil.process_iter():
        with contextlib.suppress(psutil.Error, OSError):
            words = _words_of(process)
            if process.pid not in ours and _is_of(root, process, words):
                found[process.pid] = (process, words)
    first = {pid for pid, (process, _) in found.items() if not _is_started_by(process, set(found))}
    looked_at = [
        one
        for process, words in (_server_behind(*found[pid], found) for pid in sorted(first))
        for one in _looked_at(root, process, words)
    ]
    return _one_of_each(sorted(looked_at, key=lambda one: (not one.ports, one.pid)))


def _server_behind(
    process: psutil.Process, words: list[str], found: Mapping[int, tuple[psutil.Process, list[str]]]
) -> tuple[psutil.Process, list[str]]:
    """What has been started by a tool that has written over its own words and does nothing else: of its children, the
    one that listens, where there is one.
    """
    with contextlib.suppress(psutil.Error, OSError):
        if _own_name(process, words) and not _listening(process):
            servers = [
                found[one.pid] for one in process.children(recursive=True) if one.pid in found and _listening(one)
            ]
            if len(servers) == 1 and not _own_name(*servers[0]):
                return servers[0]
    return process, words


def _one_of_each(found: list[Running]) -> list[Running]:
    """Workers that differ in numbers alone stand for one another; those that listen stand for themselves."""
    kinds: dict[object, list[Running]] = {}
    for one in found:
        kind = one.pid if one.ports else (one.account, tuple(re.sub(r"\d+", "#", word) for word in one.words))
        kinds.setdefault(kind, []).append(one)
    return [replace(same[0], alike=len(same) - 1) for same in kinds.values()]


def _words_of(process: psutil.Process) -> list[str]:
    """The words of a process; who writes a name over them leaves nothing but zeros behind it."""
    words = process.cmdline()
    while words and not words[-1]:
        words.pop()
    return words


def _own_name(process: psutil.Process, words: list[str]) -> str:
    """The program of a process that has given itself another name; nothing where its words are those it began with."""
    program = process.exe()
    first = words[0].partition(" ")[0]
    is_told = ("/" in first and Path(process.cwd(), first).exists()) or _interpreter(first) in (
        *_SHELLS,
        _interpreter(program),
    )
    return "" if is_told or Path(first).name == Path(program).name else program


def _is_of(root: Path, process: psutil.Process, words: list[str]) -> bool:
    """A program or script of root at work: who merely edits or follows a file there is none of it."""
    if not words:
        return False
    folder = process.cwd()
    program = Path(folder, words[0])
    if "/" in words[0] and program.is_relative_to(root) and os.access(program, os.X_OK):
        return True
    interpreter = _interpreter(words[0])
    if interpreter not in (*_SHELLS, *INTERPRETERS) and not ("/" in words[0] and program.exists()):
        interpreter = _interpreter(process.exe())  # a program may have given itself another name, with an address in it
    if interpreter in _SHELLS:
        return any(_is_script(root, Path(folder, word)) for word in words[1:2])
    if interpreter not in INTERPRETERS:
        return False
    named = [Path(folder, word) for word in words[1:_NEAR] if not word.startswith("-")]
    if Path(folder).is_relative_to(root) or any(
        one.is_relative_to(root) and (one.is_file() or one.is_dir()) for one in named
    ):
        return True
    return bool(_own_name(process, words)) and _has_loaded(root, process)


def _has_loaded(root: Path, process: psutil.Process) -> bool:
    """Whether a process has libraries from root in its memory: where its words tell nothing any more, that does."""
    with contextlib.suppress(OSError):
        maps = Path(f"/proc/{process.pid}/maps").read_bytes()
        return b" %b/" % os.fsencode(root) in maps
    return False


def _interpreter(word: str) -> str:
    """A program's name without its version."""
    return _VERSION_OF_PROGRAM.sub("", Path(word).name)


def _is_started_by(process: psutil.Process, others: set[int]) -> bool:
    with contextlib.suppress(psutil.Error):
        return any(one.pid in others for one in process.parents())
    return False


def _looked_at(root: Path, process: psutil.Process, words: list[str]) -> Iterator[Running]:
    with contextlib.suppress(psutil.Error, OSError):
        folder = _began_in(root, process, words)
        # An interpreter is named by the script's first line, and is put before it by the kernel.
        first = [at for at, word in enumerate(words[:_NEAR]) if not word.startswith("-")]
        script = next((at for at in first if _is_script(root, Path(folder, words[at]))), 0)
        shown = [_without_secrets(folder, word)[:_LONGEST_WORD] for word in words[script:][:_MOST_WORDS]]
        named = tuple(_files_in(root, folder, words[script + 1 :]))
        if _interpreter(words[script]) in INTERPRETERS:
            run = next((one for one in named if Path(one).suffix in _SCRIPTS), None)  # what it runs, and no settings
            named = tuple(one for one in named if one != run)
        ports, written = tuple(_ports(process)), tuple(_written_by(root, process))
        around = tuple(_variables(root, process))
        named += tuple(str(Path(path).relative_to(root)) for _, path in around if Path(path).is_file())
        yield Running(
            process.pid, process.username(), tuple(shown), folder, ports, named, written,
            environment=around, is_detached=process.ppid() == 1, program=_own_name(process, words),
            pid_file=_pid_file_of(root, process),
        )  # fmt: skip


def _pid_file_of(root: Path, process: psutil.Process) -> str:
    """A file in one of the usual places that has the process's number."""
    for folder in dict.fromkeys(Path(one) for one in (process.cwd(), root)):
        for place in (*(folder / one for one in _PID_FOLDERS), Path("/run"), Path("/run", process.name())):
            with contextlib.suppress(OSError):
                names = [one for one in sorted(nolinks.names_in(place)) if one.endswith(".pid") or one == "pid"]
                found = next((one for one in names if _number_in(place / one) == process.pid), "")
                if found:
                    return str(place / found)
    return ""


def _number_in(file: Path) -> int:
    """The number that a file holds; 0 where it holds none."""
    try:
        return int(read_regular(file, _PID_BYTES, cut=True))
    except (OSError, ValueError):
        return 0


def _began_in(root: Path, process: psutil.Process, words: list[str]) -> str:
    """The folder that a process was started in: some go elsewhere then, and their words lead nowhere from there."""
    folder = process.cwd()
    relative = [word for word in words[:_NEAR] if "/" in word and not word.startswith(("-", "/"))]
    for one in (folder, process.environ().get("PWD", ""), str(root)):
        if one and all(Path(one, word).exists() for word in relative):
            return one
    return folder


def with_variables(one: Running, folders: Sequence[str]) -> Running:
    """The same with the variables that name one of some folders outside root, or what is in them."""
    with contextlib.suppress(psutil.Error, OSError):
        known = dict(one.environment)
        for name, value in sorted(psutil.Process(one.pid).environ().items()):
            is_its_own = name not in _OF_SHELLS and not name.startswith(_OF_TOOLS) and len(value) < _LONGEST_WORD
            if is_its_own and within(value, folders) and nolinks.is_there(Path(value)):
                known.setdefault(name, value)
        return replace(one, environment=tuple(known.items()))
    return one


def _variables(root: Path, process: psutil.Process) -> Iterator[tuple[str, str]]:
    """Variables of its own that name what is there below root: where its settings are, for instance."""
    for name, value in sorted(process.environ().items()):
        if name not in _OF_SHELLS and not name.startswith(_OF_TOOLS) and len(value) < _LONGEST_WORD:
            path = Path(value)
            if path.is_absolute() and path != root and path.is_relative_to(root) and nolinks.is_there(path):
                yield name, value


def _without_secrets(folder: str, word: str) -> str:
    """A path that is there is none, however long it is, alone or behind an equals sign."""
    is_path = any("/" in one and Path(folder, one).exists() for one in (word, word.partition("=")[2]))
    return word if is_path else masked_line(word)


def _is_script(root: Path, path: Path) -> bool:
    if not path.is_relative_to(root) or not os.access(path, os.X_OK):
        return False
    try:
        return read_regular(path, 2, cut=True) == b"#!"
    except OSError:
        return False


def _ports(process: psutil.Process) -> list[int]:
    family = [process, *process.children(recursive=True)]
    found = set[int]()
    for one in family:
        with contextlib.suppress(psutil.Error):
            found |= _listening(one)
    return sorted(found)


def _listening(process: psutil.Process) -> set[int]:
    """The ports where a process itself listens."""
    return {one.laddr.port for one in process.net_connections("tcp") if one.status == psutil.CONN_LISTEN}


def _written_by(root: Path, process: psutil.Process) -> list[str]:
    found = set()
    for one in [process, *process.children(recursive=True)]:
        with contextlib.suppress(psutil.Error, OSError):
            found |= {each.path for each in one.open_files() if each.mode != "r"}
    return sorted(os.path.relpath(path, root) for path in found if Path(path).is_relative_to(root))


def _files_in(root: Path, folder: str, words: list[str]) -> Iterator[str]:
    """Files of root that are named as arguments, alone or after an equals sign."""
    for word in words:
        for part in (word, word.partition("=")[2]):
            path = Path(os.path.normpath(Path(folder, part))) if part else root
            if path.is_relative_to(root) and path.is_file() and not path.is_symlink():
                yield str(path.relative_to(root))

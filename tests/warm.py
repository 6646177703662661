"""Calls a program many times and loads it once: a process that has everything imported forks for each call.

A call of the program is the built program's own function on real files, in a process of its own, with arguments,
folder, environment and umask as they would be. What loading itself does is the point of tests that start the program
anew (`anew=True`), and of a run with YELLOW_LADDER_START_ANEW set.
"""

from __future__ import annotations

import contextlib
import gc
import importlib
import json
import os
import pkgutil
import select
import signal
import subprocess
import sys
import tempfile
import traceback
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from pydantic import BaseModel

PROGRAM_CALL = "yellow_ladder.cli.main:run"


@dataclass(frozen=True)
class Answer:
    """How a call of a program ended."""

    code: int
    out: str
    err: str

    @property
    def document(self) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(self.out)
        return found

    @property
    def problems(self) -> list[dict[str, str]]:
        found: list[dict[str, str]] = self.document["problems"]
        return found


class WarmProcess:
    """The process that forks. Calls are made one after the other."""

    def __init__(self) -> None:
        """Start it; it loads the program while the first call is being prepared."""
        # A library of numerics would start threads, which a fork does not carry over.
        environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tests.warm"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, env=environment,
            cwd=Path(__file__).parent.parent, bufsize=0,
        )  # fmt: skip
        # Unbuffered: a reply that was read ahead with the one before it would not be seen by select.

    def call(
        self, function: str, words: Sequence[str], folder: Path, environment: dict[str, str], within_s: float
    ) -> Answer:
        """Call `module:function` with arguments as a program of its own; raises TimeoutExpired past the limit."""
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        mask = os.umask(0o022)
        os.umask(mask)
        with tempfile.TemporaryDirectory(prefix="warm-") as place:
            out, err = Path(place) / "out", Path(place) / "err"
            request = {
                "call": function, "words": list(words), "folder": str(folder), "environment": environment,
                "umask": mask, "out": str(out), "err": str(err),
            }  # fmt: skip
            self._process.stdin.write(json.dumps(request).encode() + b"\n")
            child = int(self._process.stdout.readline())
            if not select.select([self._process.stdout], [], [], within_s)[0]:
                os.killpg(child, signal.SIGKILL)
                self._process.stdout.readline()
                raise subprocess.TimeoutExpired(words, within_s)
            status = int(self._process.stdout.readline())
            return Answer(status, out.read_text(), err.read_text())

    def end(self) -> None:
        """Let it go."""
        for stream in (self._process.stdin, self._process.stdout):
            if stream is not None:
                stream.close()
        self._process.wait(10)


def _load_everything() -> None:
    import yellow_ladder.web

    for module in pkgutil.walk_packages(yellow_ladder.__path__, "yellow_ladder."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    importlib.import_module("tests.crash_driver")
    yellow_ladder.web.client().close()
    _make_validators(BaseModel)
    # What is there now stays: a child's garbage collector that went through it would copy every page of it.
    gc.collect()
    gc.freeze()


def _make_validators(above: type[BaseModel]) -> None:
    """Make what records are held against: a program does it at the first use, and each child would do it again."""
    for model in above.__subclasses__():
        if model.__module__.startswith("yellow_ladder"):
            model.model_rebuild()
        _make_validators(model)


def _serve(requests: IO[bytes], replies: IO[bytes]) -> None:
    for line in requests:
        request = json.loads(line)
        child = os.fork()
        if child == 0:
            requests.close()
            replies.close()
            _be(request)
        with contextlib.suppress(PermissionError):  # it has done so itself, and has become another program
            os.setpgid(child, child)
        replies.write(f"{child}\n".encode())
        replies.flush()
        _, status = os.waitpid(child, 0)
        replies.write(f"{os.waitstatus_to_exitcode(status)}\n".encode())
        replies.flush()


def _be(request: dict[str, Any]) -> None:
    """Become one call of a program; does not return."""
    code = 70
    try:
        os.setpgid(0, 0)
        os.umask(request["umask"])
        os.chdir(request["folder"])
        os.environ.clear()
        os.environ.update(request["environment"])
        for number, place in ((1, request["out"]), (2, request["err"])):
            descriptor = os.open(place, os.O_WRONLY | os.O_CREAT, 0o600)
            os.dup2(descriptor, number)
            os.close(descriptor)
        sys.argv = ["yl", *request["words"]]
        module, _, function = request["call"].partition(":")
        getattr(importlib.import_module(module), function)()
        code = 0
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0 if end.code is None else 1
    except BaseException:
        traceback.print_exc()
        code = 1
    finally:
        with contextlib.suppress(BaseException):
            sys.stdout.flush()
            sys.stderr.flush()
        os._exit(code)


def main() -> None:
    """Load, then serve: requests come on descriptors that calls do not inherit."""
    requests, replies = os.fdopen(os.dup(0), "rb"), os.fdopen(os.dup(1), "wb")
    nothing = os.open(os.devnull, os.O_RDWR)
    os.dup2(nothing, 0)
    os.dup2(nothing, 1)
    _load_everything()
    _serve(requests, replies)


if __name__ == "__main__":
    main()

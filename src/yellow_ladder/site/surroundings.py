"""What the site's commands and services find around them: variables of its environment files, and its search path.

The files hold secrets. Their values are given to what is started and go nowhere else: not into arguments, states or
journals, and out of what is shown.
"""

from __future__ import annotations

import io
import os
import tempfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from dotenv.parser import parse_stream

from yellow_ladder import nolinks
from yellow_ladder.accounts import Account, account_for
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.files.reading import read_regular
from yellow_ladder.masking import MASK
from yellow_ladder.processes import Completed, Streams, run_command
from yellow_ladder.site.site import Site
from yellow_ladder.words import bytes_in_words

LARGEST_BYTES = 1024**2
_SHORTEST_SECRET = 6  # a shorter value is part of too many words


@dataclass(frozen=True, slots=True)
class Surroundings:
    """Variables by name, folders that programs are looked for in first, and the places that all this comes from."""

    variables: Mapping[str, str]
    path: tuple[str, ...]
    places: tuple[Path, ...]
    secrets: tuple[str, ...] = ()

    def around(self, own: Mapping[str, str], more: Mapping[str, str]) -> dict[str, str]:
        """The environment of what is started: its `own`, the site's, and what is said of it alone (`more`)."""
        found = {**own, **self.variables, **more}
        if self.path:
            found["PATH"] = os.pathsep.join([*self.path, found.get("PATH", os.defpath)])
        return found

    def masked(self, text: str) -> str:
        """A text without the values of the environment files."""
        for secret in self.secrets:
            text = text.replace(secret, MASK)
        return text


@dataclass(frozen=True, slots=True)
class Started:
    """How a command is to be started: whose rights it has (None: this program's), and its whole environment."""

    account: Account | None
    environment: Mapping[str, str]
    surroundings: Surroundings

    def in_groups(self, groups: Sequence[str]) -> Started:
        """The same, in these groups besides those of its account. Raises BadInput where they cannot be had."""
        if not groups:
            return self
        if self.account is not None:
            return replace(self, account=self.account.in_groups(groups))
        has_rights = os.geteuid() == 0
        why = "it runs as root" if has_rights else "yl does not run as root"
        remedy = "name its account: as_user" if has_rights else "run yl as root, or take `groups` out"
        text = f"it cannot be given the group {groups[0]}: {why}"
        raise BadInput(Problem("groups-not-had", text, remedy, groups[0]))


def surroundings_of(site: Site) -> Surroundings:
    """Read the environment files of a site; raises BadInput for one that is missing or not in the form."""
    record = site.record.environment
    files = [site.resolve(site.filled(file)) for file in record.files]
    variables: dict[str, str] = {}
    for file in files:
        variables |= read_environment(file)
    secrets = tuple(sorted((one for one in variables.values() if len(one) >= _SHORTEST_SECRET), key=len, reverse=True))
    variables |= {name: site.filled(value) for name, value in record.values.items()}
    path = tuple(str(site.resolve(site.filled(folder))) for folder in record.path)
    return Surroundings(variables, path, (*files, *map(Path, path)), secrets)


def read_environment(file: Path) -> dict[str, str]:
    """Variables of a file of `KEY=value` lines, as shells and service managers read them; nothing is put in for `$`.

    Raises BadInput where it cannot be read, naming the line.
    """
    try:
        text = read_regular(nolinks.trusted(file), LARGEST_BYTES).decode()
    except (OSError, UnicodeDecodeError) as fault:
        why = fault.strerror if isinstance(fault, OSError) else "it is no UTF-8 text"
        raise _unreadable(file, f"cannot be read: {why}") from fault
    found: dict[str, str] = {}
    for one in parse_stream(io.StringIO(text)):
        if one.error or (one.key is not None and one.value is None):
            raise _unreadable(file, f"line {one.original.line} is not in the form KEY=value")
        if one.key is not None and one.value is not None:
            found[one.key] = one.value
    return found


def _unreadable(file: Path, why: str) -> BadInput:
    text = f"the environment file {file} {why}"
    return BadInput(Problem("environment-unreadable", text, "correct it, or environment.files", str(file)))


def started(
    site: Site,
    as_user: str,
    argv: Sequence[str],
    folder: Path,
    *,
    folder_counts: bool = False,
    more: Mapping[str, str] | None = None,
) -> Started:
    """How to start a command of the site. Raises BadInput for an account that is not known or a file that is no good.

    Whoever may write an environment file, or what lies in the search path, says what a program loads: where no account
    is named, the command runs as that one.
    """
    around = surroundings_of(site)
    path = os.pathsep.join([*around.path, os.environ.get("PATH", os.defpath)])
    account = account_for(as_user, argv, folder, folder_counts=folder_counts, path=path, places=around.places)
    own = account.environment(os.environ) if account else os.environ
    return Started(account, around.around(own, more or {}), around)


def hear(how: Started, argv: Sequence[str], folder: Path, deadline_s: float, most_bytes: int) -> tuple[bytes, str]:
    """What a command prints, and what it prints on its second stream, that without secrets.

    Raises AnswerNo when it fails, floods or hangs.
    """
    with tempfile.TemporaryFile() as answer:

        def look_on() -> None:
            if os.fstat(answer.fileno()).st_size > most_bytes:
                text = f"{argv[0]} printed more than {bytes_in_words(most_bytes)} and was ended"
                raise AnswerNo(Problem("command-floods", text, "run it by hand to see why"))

        streams = Streams(account=how.account, target=answer, look_on=look_on)
        done = run_command(
            argv,
            folder=folder,
            deadline_s=deadline_s,
            environment=how.environment,
            most_bytes=most_bytes,
            streams=streams,
        )
        answer.seek(0)
        said = answer.read(most_bytes)
    if done.status != 0:
        heard = done.output.strip() or said.decode(errors="replace").strip()
        last = (heard.splitlines() or ["it printed nothing"])[-1]
        text = f"{argv[0]} ended with {done.status}: {how.surroundings.masked(last)[:200]}"
        raise AnswerNo(Problem("command-failed", text, "run it by hand to see why"))
    return said, done.output


def run_started(
    how: Started, argv: Sequence[str], folder: Path, deadline_s: float, limits: Mapping[int, int] | None = None
) -> Completed:
    """Run a command to its end; what it printed is without secrets. Raises as `run_command` does."""
    streams = Streams(account=how.account, limits=limits or {})
    done = run_command(argv, folder=folder, deadline_s=deadline_s, environment=how.environment, streams=streams)
    return replace(done, output=how.surroundings.masked(done.output))

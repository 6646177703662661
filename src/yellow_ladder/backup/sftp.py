"""Another host by SFTP. Its key must be known, and we are known to it by a key of ours."""

from __future__ import annotations

import contextlib
import errno
import posixpath
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import IO, cast
from urllib.parse import unquote, urlsplit

import paramiko

from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.site.backup_records import CopyTarget
from yellow_ladder.site.site import Site

_WITHIN_S = 15.0
_STALLED_S = 60.0
_PORT = 22


class SftpPlace:
    """A folder of another host."""

    def __init__(self, session: paramiko.SFTPClient, folder: str) -> None:
        """Take an open session; the folder must be there already."""
        self._session, self._folder = session, folder

    def _path(self, name: str) -> str:
        return posixpath.join(self._folder, name) if name else self._folder

    def list(self, name: str = "") -> list[str]:
        try:
            return sorted(self._session.listdir(self._path(name)))
        except FileNotFoundError:
            if name:
                return []
            raise

    def make_folder(self, name: str) -> None:
        self._session.mkdir(self._path(name), 0o700)

    @contextlib.contextmanager
    def write(self, name: str) -> Iterator[IO[bytes]]:
        with self._session.open(self._path(name), "wx") as stream:
            stream.chmod(0o600)
            stream.set_pipelined(True)
            yield cast("IO[bytes]", stream)
            stream.flush()

    @contextlib.contextmanager
    def read(self, name: str) -> Iterator[IO[bytes]]:
        with self._session.open(self._path(name), "rb") as stream:
            stream.prefetch()
            yield cast("IO[bytes]", stream)

    def rename(self, old: str, new: str) -> None:
        self._session.rename(self._path(old), self._path(new))

    def remove(self, name: str) -> None:
        for one in self.list(name):
            below = f"{name}/{one}"
            status = self._session.lstat(self._path(below))
            if stat.S_ISDIR(status.st_mode or 0):
                self.remove(below)
            else:
                self._session.remove(self._path(below))
        with contextlib.suppress(FileNotFoundError):
            self._session.rmdir(self._path(name))


@contextlib.contextmanager
def connected_place(site: Site, target: CopyTarget) -> Iterator[SftpPlace]:
    """Connect for one block; AnswerNo where the host is unknown or does not let us in, OSError where it is gone."""
    parts = urlsplit(target.sftp)
    client = paramiko.SSHClient()
    client.set_missing_host_key_policy(paramiko.RejectPolicy())
    known = Path(site.filled(target.known_hosts)).expanduser()
    try:
        client.load_host_keys(str(known))
    except FileNotFoundError as gone:
        text = f"the place `{target.name}` needs {known}, which would tell its host's key"
        remedy = f"ssh-keyscan {parts.hostname} >> {known}, and check it"
        raise AnswerNo(Problem("host-unknown", text, remedy)) from gone
    except (paramiko.SSHException, paramiko.hostkeys.InvalidHostKey, ValueError) as fault:
        text = f"{known} has a line that is not a host key: {fault}"
        raise AnswerNo(
            Problem("host-unknown", text, "correct that line, or name another file with known_hosts")
        ) from fault
    try:
        client.connect(
            parts.hostname or "",
            parts.port or _PORT,
            username=unquote(parts.username or "") or None,
            key_filename=str(Path(site.filled(target.key_file)).expanduser()) if target.key_file else None,
            timeout=_WITHIN_S, banner_timeout=_WITHIN_S, auth_timeout=_WITHIN_S,
        )  # fmt: skip
        session = client.open_sftp()
        channel = session.get_channel()
        if channel is not None:
            channel.settimeout(_STALLED_S)
        yield SftpPlace(session, unquote(parts.path))
    except paramiko.BadHostKeyException as fault:
        text = f"the host of the place `{target.name}` has another key than {known} says"
        remedy = "ask its administrator before you go on: somebody may stand in between"
        raise AnswerNo(Problem("host-changed", text, remedy)) from fault
    except paramiko.AuthenticationException as fault:
        text = f"the place `{target.name}` ({target.where}) does not let us in: {fault}"
        raise AnswerNo(Problem("place-refused", text, "see that its account knows the key of `key_file`")) from fault
    except paramiko.SSHException as fault:
        if "known_hosts" in str(fault):
            text = f"the host of the place `{target.name}` is not in {known}"
            remedy = f"ssh-keyscan -p {parts.port or _PORT} {parts.hostname} >> {known}, and check it"
            raise AnswerNo(Problem("host-unknown", text, remedy)) from fault
        raise OSError(errno.ECONNRESET, str(fault)) from fault
    finally:
        client.close()

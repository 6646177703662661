"""Encryption of copies in the age format (version 1 of its public specification), with a key or a passphrase.

Every file of a copy is encrypted to one key. With a passphrase, that key is made for the copy and lies beside it,
itself encrypted with the passphrase, so that the files of any size can be streamed.
"""

from __future__ import annotations

import os
from pathlib import Path
from typing import IO

import pyrage

from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.site.backup_records import CopyTarget
from yellow_ladder.site.site import Site

ENDING, KEY_NAME = ".age", "key.age"


def passphrase_of(site: Site, target: CopyTarget) -> str:
    """The passphrase of a place, or nothing where it has none; raises BadInput where it cannot be had."""
    if target.passphrase_env:
        if not os.environ.get(target.passphrase_env):
            text = f"{target.passphrase_env} is not set in the environment; it has the passphrase of `{target.name}`"
            raise BadInput(Problem("no-passphrase", text, "set it, or correct backup.copy_to.passphrase_env"))
        return os.environ[target.passphrase_env]
    if target.passphrase_file:
        path = site.resolve(target.passphrase_file)
        try:
            if path.stat().st_mode & 0o077:
                text = f"{path}, which has the passphrase of `{target.name}`, can be read by others"
                raise BadInput(Problem("password-open", text, f"chmod 600 {path}"))
            said = path.read_text().rstrip("\r\n")
        except (OSError, UnicodeDecodeError) as fault:
            text = f"the passphrase of `{target.name}` cannot be read from {path}: {fault}"
            raise BadInput(Problem("no-passphrase", text, "correct backup.copy_to.passphrase_file")) from fault
        if not said:
            raise BadInput(Problem("no-passphrase", f"{path} is empty", "write the passphrase into it"))
        return said
    return ""


def recipient_of(target: CopyTarget) -> pyrage.x25519.Recipient:
    """The public key of a place; raises BadInput where it is not a key."""
    try:
        return pyrage.x25519.Recipient.from_str(target.recipient)
    except pyrage.RecipientError as fault:
        text = f"the recipient of `{target.name}` is not a key of the age format: {fault}"
        raise BadInput(Problem("bad-recipient", text, "it begins with age1 and is made by: age-keygen")) from fault


class Seal:
    """Encrypts the files of one copy. `key` is what must lie beside them, nothing where the reader has a key."""

    def __init__(self, site: Site, target: CopyTarget) -> None:
        """Prepare it; raises BadInput where the recipient is not a key."""
        self.key = b""
        phrase = passphrase_of(site, target)
        if phrase:
            own = pyrage.x25519.Identity.generate()
            self.key = pyrage.passphrase.encrypt(f"{own}\n".encode(), phrase)
            self._recipient = own.to_public()
            return
        self._recipient = recipient_of(target)

    def encrypt(self, source: IO[bytes], sink: IO[bytes]) -> None:
        """Encrypt one file."""
        pyrage.encrypt_io(source, sink, [self._recipient])


class _Watched:
    """Passes bytes on, and remembers what their source stumbled over: a network that fails is no wrong key."""

    def __init__(self, source: IO[bytes]) -> None:
        self._source = source
        self.fault: OSError | EOFError | None = None

    def read(self, size: int = -1) -> bytes:
        """So many bytes."""
        try:
            return self._source.read(size)
        except (OSError, EOFError) as fault:
            self.fault = fault
            raise


class Unsealing:
    """Decrypts the files of one copy."""

    def __init__(self, site: Site, target: CopyTarget, key: bytes) -> None:
        """Find the key; raises AnswerNo where passphrase or key file are not the right ones."""
        if key:
            try:
                said = pyrage.passphrase.decrypt(key, passphrase_of(site, target)).decode()
            except pyrage.DecryptError as fault:
                text = f"the passphrase of `{target.name}` is not the one that this copy was encrypted with"
                raise AnswerNo(Problem("wrong-passphrase", text, "find the one that was valid then")) from fault
        else:
            path = Path(site.filled(target.identity_file)).expanduser() if target.identity_file else None
            try:
                said = path.read_text() if path else ""
            except OSError as fault:
                text = f"the key file {path} of `{target.name}` cannot be read: {fault.strerror}"
                raise BadInput(Problem("no-key", text, "correct backup.copy_to.identity_file")) from fault
        lines = [line.strip() for line in said.splitlines() if line.strip() and not line.startswith("#")]
        if not lines:
            text = f"decrypting a copy at `{target.name}` needs its key"
            raise BadInput(Problem("no-key", text, "name it with backup.copy_to.identity_file"))
        self._identities = [pyrage.x25519.Identity.from_str(line) for line in lines]
        self._name = target.name

    def decrypt(self, source: IO[bytes], sink: IO[bytes], name: str) -> None:
        """Decrypt one file; raises AnswerNo where it was altered or is for another key."""
        watched = _Watched(source)
        try:
            pyrage.decrypt_io(watched, sink, self._identities)
        except (pyrage.DecryptError, OSError) as fault:
            if watched.fault is not None:
                raise watched.fault from None
            text = f"{name} at `{self._name}` cannot be decrypted: {fault}"
            raise AnswerNo(Problem("copy-damaged", text, "use another copy, or the right key file")) from fault

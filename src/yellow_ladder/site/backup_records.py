"""The site file's records of backups, of places for copies of them, and of settling."""

from __future__ import annotations

from typing import Literal
from urllib.parse import urlsplit

from pydantic import Field, model_validator

from yellow_ladder.documents import Record
from yellow_ladder.site.values import NAME_PATTERN


class CopyTarget(Record):
    """`[[backup.copy_to]]`: a place elsewhere for copies of backups."""

    name: str = Field(pattern=NAME_PATTERN)
    folder: str = ""
    sftp: str = ""
    key_file: str = ""
    known_hosts: str = "~/.ssh/known_hosts"
    passphrase_env: str = ""
    passphrase_file: str = ""
    recipient: str = ""
    identity_file: str = ""
    climb: Literal["before", "after", "no"] = "after"

    @model_validator(mode="after")
    def _complete(self) -> CopyTarget:
        if bool(self.folder) == bool(self.sftp):
            raise ValueError("needs either `folder` or `sftp`")
        parts = urlsplit(self.sftp)
        if self.sftp and (parts.scheme != "sftp" or not parts.hostname or not parts.path.strip("/")):
            raise ValueError("has an `sftp` that is not a URL like sftp://keeper@vault.example/backups/harbour")
        if parts.password is not None:
            raise ValueError("has a password in `sftp`; take it out: a key is used (`key_file`, or an agent's)")
        if sum(map(bool, (self.passphrase_env, self.passphrase_file, self.recipient))) > 1:
            raise ValueError("has several of `passphrase_env`, `passphrase_file` and `recipient`; one is enough")
        return self

    @property
    def where(self) -> str:
        """Where it is, for people."""
        return self.folder or self.sftp

    @property
    def is_sealed(self) -> bool:
        """Whether copies there are encrypted."""
        return bool(self.passphrase_env or self.passphrase_file or self.recipient)


class BackupWishes(Record):
    """`[backup]`: how backups are made, how long they are kept, where else they go."""

    first_copy: Literal["large", "always", "never"] = "large"
    keep_count: int = Field(default=0, ge=0)
    keep_days: int = Field(default=0, ge=0)
    copy_to: list[CopyTarget] = []

    @model_validator(mode="after")
    def _names_differ(self) -> BackupWishes:
        names = [one.name for one in self.copy_to]
        if len(names) > len(set(names)):
            raise ValueError("names a place of copy_to twice")
        return self


class SettleWishes(Record):
    """`[settle]`: when a climb is settled without being asked."""

    after_days: int = Field(default=0, ge=0)

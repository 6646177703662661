"""Where a database is, read from a URL."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from urllib.parse import unquote, urlsplit

ENGINES_NOT_BUILT = ("postgresql", "mariadb", "mysql")


@dataclass(frozen=True, slots=True)
class DatabaseAddress:
    """One database: its name in the site file, its engine, and the file it lives in.

    `is_kept`: the file is a backup, which nobody writes to and beside which nothing may be written.
    """

    name: str
    engine: str
    path: Path
    is_kept: bool = False


def parse_address(name: str, url: str, base: Path) -> DatabaseAddress:
    """Parse `sqlite:///relative.db` (to `base`) or `sqlite:////absolute.db`; raises ValueError with the reason."""
    parts = urlsplit(url)
    if parts.scheme in ENGINES_NOT_BUILT:
        raise ValueError(f"uses the engine {parts.scheme}, which is designed but not built yet; today: sqlite")
    if parts.scheme != "sqlite":
        raise ValueError("should be a URL like sqlite:///data/site.db")
    if parts.netloc or not parts.path.strip("/"):
        raise ValueError("should have three slashes before a relative path and four before an absolute one")
    return DatabaseAddress(name, "sqlite", base / unquote(parts.path[1:]))

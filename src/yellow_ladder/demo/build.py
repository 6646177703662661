"""Builds Quaybook's releases: each tree is the one before it with files laid over, moved and removed."""

from __future__ import annotations

import shutil
import tempfile
import tomllib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from yellow_ladder.release.pack import Packed, pack_release

SOURCES = Path(__file__).parent / "quaybook"
DEMO_VERSIONS = ("2.4", "2.6", "3.0", "4.0")


def build_releases(into: Path, *, broken: bool = False) -> list[Packed]:
    """Pack every release into `into`; with `broken`, the last one fails in its second migration on purpose."""
    packed = []
    with _workplace() as tree:
        for version in DEMO_VERSIONS:
            lay_over(tree, SOURCES / version)
            if broken and version == DEMO_VERSIONS[-1]:
                lay_over(tree, SOURCES / f"{version}-broken")
            packed.append(pack_release(tree, into))
    return packed


@contextmanager
def _workplace() -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="quaybook-") as folder:
        yield Path(folder) / "tree"


def lay_over(tree: Path, layer: Path) -> None:
    """Turn the tree of one release into that of the next."""
    changes = layer / "changes.toml"
    if changes.exists():
        wanted = tomllib.loads(changes.read_text())
        for path in wanted.get("removed", []):
            (tree / path).unlink()
        for old, new in wanted.get("moved", {}).items():
            (tree / new).parent.mkdir(parents=True, exist_ok=True)
            (tree / old).rename(tree / new)
        _drop_empty_folders(tree)
    ignore = shutil.ignore_patterns("changes.toml", "__pycache__")
    shutil.copytree(layer, tree, dirs_exist_ok=True, ignore=ignore)


def _drop_empty_folders(tree: Path) -> None:
    for folder in sorted(tree.rglob("*"), key=lambda path: -len(path.parts)):
        if folder.is_dir() and not any(folder.iterdir()):
            folder.rmdir()

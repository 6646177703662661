"""Builds Quaybook's releases: each tree is the one before it with files laid over, moved and removed."""

from __future__ import annotations

import re
import shutil
import tempfile
import tomllib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from yellow_ladder.release.pack import Packed, pack_release

SOURCES = Path(__file__).parent / "quaybook"
DEMO_VERSIONS = ("2.4", "2.6", "3.0", "4.0")
# What each release asks of the runtime, and its schema's number, where the whole story is told.
DEMANDS = {"2.4": (">=3.6,<3.10", 24), "2.6": (">=3.6,<3.11", 26), "3.0": (">=3.8,<3.12", 30), "4.0": (">=3.10", 40)}
MORE_AFTER = {"2.4": ("2.2",), "2.6": ("2.6.1",), "3.0": ("3.1",), "4.0": ("5.0b1", "berth-map-2.0")}


def build_releases(into: Path, *, broken: bool = False, with_more: bool = False) -> list[Packed]:
    """Pack every release into `into`; with `broken`, the last one fails in its second migration on purpose.

    `with_more`: releases ask for a runtime, and there are an older one, one that runs ahead inside, a withdrawn one,
    a preview and an add-on beside them.
    """
    packed = []
    with _workplace() as tree:
        for version in DEMO_VERSIONS:
            lay_over(tree, SOURCES / version)
            if broken and version == DEMO_VERSIONS[-1]:
                lay_over(tree, SOURCES / f"{version}-broken")
            if with_more:
                _demand(tree / "release.toml", *DEMANDS[version])
            packed.append(pack_release(tree, into))
            for more in MORE_AFTER[version] if with_more else ():
                _pack_beside(tree, SOURCES / "more" / more, into)
    return packed


def build_environments(into: Path, *, broken: bool = False) -> list[Packed]:
    """Pack every release as one that is installed in a folder of its own, with an environment built there by commands.

    `broken`: the last one fails when it is started to migrate.
    """
    packed = []
    layers = SOURCES / "environment"
    with _workplace() as tree:
        for version in DEMO_VERSIONS:
            lay_over(tree, SOURCES / version)
            with _workplace() as beside:
                shutil.copytree(tree, beside, symlinks=True)
                for local in ("etc", "config", "addons", "docs"):  # what is the harbour's own lies elsewhere
                    shutil.rmtree(beside / local, ignore_errors=True)
                for engine in ("mariadb", "postgresql"):
                    shutil.rmtree(beside / "migrations" / engine, ignore_errors=True)
                lay_over(beside, layers / "common")
                lay_over(beside, layers / version)
                if broken and version == DEMO_VERSIONS[-1]:
                    lay_over(beside, SOURCES / f"{version}-broken")
                packed.append(pack_release(beside, into))
    return packed


def _demand(sheet: Path, runtime: str, number: int) -> None:
    text = sheet.read_text()
    text = re.sub(r"^(schema = .*)$", rf"\1\nschema_number = {number}", text, count=1, flags=re.MULTILINE)
    sheet.write_text(f'{text}\n[needs]\nruntime = "{runtime}"\n')


def _pack_beside(tree: Path, layer: Path, into: Path) -> None:
    """Pack a release that differs from `tree` by one layer, or an add-on that is nothing but its layer."""
    with _workplace() as beside:
        if (layer / "VERSION").exists():
            shutil.copytree(tree, beside, symlinks=True)
        shutil.copytree(layer, beside, dirs_exist_ok=True)
        pack_release(beside, into)


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

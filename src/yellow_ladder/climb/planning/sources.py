"""Keeps the files that a release is made and migrated with: their own places will be in use by then."""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.climb.record.plan import Plan, RungPlan, migrations_folder
from yellow_ladder.durable import private_folder, write_whole
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.files.entry import below_any
from yellow_ladder.migrations.apply import missing_file
from yellow_ladder.release.sheet import Migration
from yellow_ladder.release.source import Release, check_build_files


def sources_folder(folder: Path, number: int) -> Path:
    """Where files of the release source that a rung is made with are kept."""
    return folder / "sources" / str(number)


def keep_sources(folder: Path, number: int, release: Release) -> None:
    """Copy the files that building a release reads; raises BadInput for one that is missing or not as published."""
    check_build_files(release)
    build = release.sheet.archive.build
    for file in build.files if build else ():
        _copy(release.archive.parent / file, sources_folder(folder, number) / file)


@contextlib.contextmanager
def lent_sources(folder: Path, number: int) -> Iterator[str]:
    """A folder with copies of them that everybody may read, for as long as the block lasts: the account that builds
    cannot look into the climb's.
    """
    kept = sources_folder(folder, number)
    place = _lent_place("build", folder)
    try:
        if kept.is_dir():
            shutil.copytree(kept, place, dirs_exist_ok=True)
        for one in (place, *place.rglob("*")):
            one.chmod(0o755 if one.is_dir() else 0o644)
        yield str(place)
    finally:
        shutil.rmtree(place, ignore_errors=True)


@contextlib.contextmanager
def lent_settings(plan: Plan, rung: RungPlan) -> Iterator[Path]:
    """A folder with a rung's settings as they will be, each at its path in the tree, for as long as the block lasts."""
    place = _lent_place("settings", plan.folder)
    try:
        for spec in plan.site.record.keep.merged:
            target, merged = place / below_any(rung.renamed.get(spec.file, spec.file)), plan.merged(rung, spec.file)
            if merged.exists():  # one that a later release brings is not there yet
                target.parent.mkdir(parents=True, exist_ok=True)
                shutil.copyfile(merged, target)
        yield place
    finally:
        shutil.rmtree(place, ignore_errors=True)


def _lent_place(kind: str, folder: Path) -> Path:
    """A new folder that tells whose it is, so that what a kill leaves of one is found."""
    drop_lent(folder)
    return Path(tempfile.mkdtemp(prefix=f"yl-{kind}-{_mark(folder)}-"))


def _mark(folder: Path) -> str:
    return hashlib.sha256(str(folder).encode()).hexdigest()[:12]


def drop_lent(folder: Path) -> None:
    """Remove copies that a killed climb had lent out; `folder` is the climb's."""
    for one in Path(tempfile.gettempdir()).glob(f"yl-*-{_mark(folder)}-*"):
        shutil.rmtree(one, ignore_errors=True)


def keep_migrations(folder: Path, number: int, tree: Path, release: Release) -> None:
    """Copy the migration files of a release out of its `tree`, or from beside its archive; raises BadInput."""
    keep_files_of(release.sheet.migrations, [tree, release.archive.parent], migrations_folder(folder, number))


def keep_files_of(
    migrations: Sequence[Migration], places: Sequence[Path], target: Path, *, all_of_them: bool = True
) -> None:
    """Copy migration files from the first of `places` that has each, but for those that `target` has already; raises
    BadInput for one that is nowhere where `all_of_them` are wanted.
    """
    for migration in migrations:
        for file in migration.files:
            if nolinks.is_there(target / file):
                continue
            source = next((one / file for one in places if nolinks.is_there(one / file)), None)
            if source is None and all_of_them:
                raise missing_file(migration, file)
            if source is not None:
                _copy(source, target / file)


def _copy(source: Path, target: Path) -> None:
    private_folder(target.parent)
    try:
        with os.fdopen(nolinks.open_regular(source), "rb") as stream:
            write_whole(target, stream.read())
    except nolinks.LinkInTheWay as fault:
        text = f"{source} is reached through a link"
        raise AnswerNo(Problem("link-in-the-way", text, "put the file itself there", str(source))) from fault

"""Libraries that are installed into an application's tree, and are none of its archive: each release needs its own."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass

from yellow_ladder import nolinks
from yellow_ladder.drafting.parts import quoted
from yellow_ladder.site.site import Site

_RUNTIME_FOLDERS = ("venv", ".venv", "env")
# What an archive has where libraries are to be installed from a list, the folder that they are in, and how.
_BY_LIST = (
    ("package-lock.json", "node_modules", ("npm", "ci", "--omit=dev")),
    ("yarn.lock", "node_modules", ("yarn", "install", "--frozen-lockfile", "--production")),
    ("pnpm-lock.yaml", "node_modules", ("pnpm", "install", "--frozen-lockfile", "--prod")),
    ("package.json", "node_modules", ("npm", "install", "--omit=dev")),
    ("Gemfile", "vendor/bundle", ("bundle", "install")),
    ("composer.lock", "vendor", ("composer", "install", "--no-dev", "--no-interaction")),
)


@dataclass(frozen=True, slots=True)
class Libraries:
    """A folder of libraries in the tree of a site, and the commands that make it."""

    folder: str
    commands: tuple[tuple[str, ...], ...]


def libraries_of(site: Site, shipped: Collection[str]) -> Iterator[Libraries]:
    """The folders that are there and in no archive, with how the list in the archive says that they are made."""
    tree = site.root / site.release_path
    found = set[str]()
    for file, folder, run in _BY_LIST:
        is_new = folder not in found and file in shipped
        if is_new and _is_apart(folder, shipped) and nolinks.is_folder(tree / folder):
            found.add(folder)
            yield Libraries(folder, (run,))
    for folder in _RUNTIME_FOLDERS:
        if nolinks.is_there(tree / folder / "pyvenv.cfg") and _is_apart(folder, shipped):
            made = ("python3", "-m", "venv", folder)
            wanted = ("--requirement", "requirements.txt") if "requirements.txt" in shipped else (".",)
            yield Libraries(folder, (made, (f"{folder}/bin/python", "-m", "pip", "install", *wanted)))


def _is_apart(folder: str, shipped: Collection[str]) -> bool:
    return not any(path.startswith(f"{folder}/") for path in shipped)


def libraries_text(found: Collection[Libraries], *, is_to_come: bool) -> list[str]:
    """What a sheet says of them: whose they are, and for a release that is to come, how it gets its own."""
    if not found:
        return []
    lines = [
        "",
        "[files]",
        "# installed into the tree, and not in the archive: the release's own, made anew",
        f"generated = [{', '.join(quoted(one.folder) for one in found)}]",
    ]
    for one in found if is_to_come else ():
        for number, run in enumerate(one.commands, 1):
            lines += [
                "",
                "[[commands]]",
                f"name = {quoted(f'libraries in {one.folder}' + (f', {number}' if len(one.commands) > 1 else ''))}",
                'at = "placed"',
                "# guess: so they are installed, while the site is closed",
                f"run = [{', '.join(map(quoted, run))}]",
                f"writes = [{quoted(one.folder)}]",
                "twice = true",
            ]
    return lines

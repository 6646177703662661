"""The documents say what is there: every command, option, exit code and key, and nothing that is not."""

from __future__ import annotations

import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import click
import pytest

from yellow_ladder.cli.main import COMMANDS, program
from yellow_ladder.documents import Record, _records_in
from yellow_ladder.errors import AnswerNo, BadInput, OwnFault, SiteLocked, StoppedPartWay
from yellow_ladder.release.sheet import ReleaseSheet
from yellow_ladder.site.records import SiteFile

REPOSITORY = Path(__file__).parent.parent
DOCS = REPOSITORY / "docs"


def commands() -> Iterator[tuple[str, click.Command]]:
    context = click.Context(program)
    for name in COMMANDS:
        command = program.get_command(context, name)
        assert command is not None
        yield name, command
        if isinstance(command, click.Group):
            yield from ((f"{name} {inner}", one) for inner, one in command.commands.items())


def test_every_command_and_option_is_documented() -> None:
    text = (DOCS / "commands.md").read_text()
    for name, command in commands():
        words = name.split()
        assert f"yl {words[0]}" in text
        assert all(f"`{word}" in text or f" {word}`" in text for word in words[1:]), name
        for parameter in command.params:
            if isinstance(parameter, click.Option):
                assert any(f"`{option}" in text for option in parameter.opts), f"{name} {parameter.opts}"
                assert parameter.help, f"{name} {parameter.opts}"


@pytest.mark.parametrize("kind", [AnswerNo, BadInput, StoppedPartWay, SiteLocked, OwnFault])
def test_every_exit_code_is_documented(kind: type[BadInput]) -> None:
    assert re.search(rf"^\| {kind.exit_code} \| \w", (DOCS / "commands.md").read_text(), re.MULTILINE)


def keys_of(record: type[Record]) -> Iterator[tuple[str, str, bool]]:
    """(record, key, is built) of every key below a record."""
    for name, field in record.model_fields.items():
        yield record.__name__, field.alias or name, True
        for inner in _records_in(field.annotation):
            yield from keys_of(inner)
    for name in record.designed:
        yield record.__name__, name, False


@pytest.mark.parametrize(("record", "page"), [(SiteFile, "site-file.md"), (ReleaseSheet, "release-sheet.md")])
def test_every_key_is_documented_and_what_is_not_built_says_so(record: type[Record], page: str) -> None:
    text = (DOCS / page).read_text()
    rows = re.findall(r"^\| `(\w+)` \|(.*)$", text, re.MULTILINE)
    tables = {match.strip("[]`") for match in re.findall(r"^#+ `(\[.*?\])`", text, re.MULTILINE)}
    documented: dict[str, list[str]] = {}
    for key, rest in rows:
        documented.setdefault(key, []).append(rest)
    pairs = {"from", "to", "key", "value", "values", "comment", "why", "by", "into", "keys", "written", "pattern"}
    for owner, key, is_built in set(keys_of(record)):
        if is_built:
            is_table = any(table.split(".")[-1] == key for table in tables)
            assert key in documented or is_table or key in pairs, f"{owner}.{key}"
        else:
            assert any("not built yet" in rest.lower() for rest in documented.get(key, [])), f"{owner}.{key}"
    known = {key for _, key, _ in keys_of(record)}
    assert set(documented) <= known


def test_every_link_in_the_documents_leads_somewhere() -> None:
    for page in [*REPOSITORY.glob("*.md"), *DOCS.glob("*.md"), *(REPOSITORY / "benchmarks").glob("*.md")]:
        for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
            assert (page.parent / target).exists(), f"{page.name}: {target}"


def test_help_fits_eighty_columns_and_explains_its_words() -> None:
    for name, command in commands():
        context = click.Context(command, info_name=f"yl {name}", terminal_width=80)
        text = command.get_help(context)
        assert max(map(len, text.splitlines())) <= 80, name
        assert len(text.splitlines()) > 3


@pytest.mark.parametrize("words", [("--version",), ("--help",)])
def test_help_and_version_load_nothing_heavy(words: tuple[str, ...]) -> None:
    setup = f"import atexit, sys; sys.argv = ['yl', *{words!r}]; atexit.register(lambda: print(*sys.modules))"
    code = setup + "\nfrom yellow_ladder.cli.main import run; run()"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    loaded = set(done.stdout.split())
    assert "click" in loaded
    assert not loaded & {
        "numpy",
        "pandas",
        "sqlalchemy",
        "matplotlib",
        "jinja2",
        "pydantic",
        "httpx",
        "rich",
        "zstandard",
    }

"""What all commands share: options, output, errors."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any, TypeVar, cast

import click

from yellow_ladder.errors import AnswerNo, BadInput, LadderError, Problem
from yellow_ladder.words import one_line

if TYPE_CHECKING:
    from rich.console import Console, RenderableType

    from yellow_ladder.site.site import Site

F = TypeVar("F", bound=Callable[..., Any])


@dataclass(frozen=True, slots=True)
class Choices:
    """The global options, wherever on the line they stood. `is_named`: somebody has named the site file."""

    site_file: Path
    as_json: bool = False
    plain: bool = False
    verbose: bool = False
    is_named: bool = False

    @staticmethod
    def default() -> Choices:
        """What holds when nothing is given."""
        named = os.environ.get("YELLOW_LADDER_SITE")
        return Choices(Path(named or "ladder.toml"), plain="NO_COLOR" in os.environ, is_named=bool(named))

    def with_given(self, given: Mapping[str, Any]) -> Choices:
        """The same with what was given on the line."""
        return replace(
            self,
            site_file=Path(given["site_file"]) if given.get("site_file") else self.site_file,
            as_json=self.as_json or bool(given.get("as_json")),
            plain=self.plain or bool(given.get("plain")),
            verbose=self.verbose or bool(given.get("verbose")),
            is_named=self.is_named or bool(given.get("site_file")),
        )

    def site(self, *, under_way: bool = False) -> Site:
        """The site of the site file; raises BadInput. `under_way`: its root may be missing between two renames."""
        from yellow_ladder.site.site import load_site

        return load_site(self.site_file, under_way=under_way)


def shared_options(function: F) -> F:
    """Add the global options; they may stand before or after the command's name."""
    options = (
        click.option("--site", "site_file", metavar="FILE", help="The site file (default: ./ladder.toml)."),
        click.option("--json", "as_json", is_flag=True, help="One JSON document on standard output."),
        click.option("--plain", is_flag=True, help="No colour, no live display."),
        click.option("-v", "--verbose", is_flag=True, help="Tell more."),
    )
    for option in reversed(options):
        function = option(function)
    return function


def tell_site(given: Mapping[str, Any]) -> None:
    """A site file that was named on the line stands in the commands that are told next, too."""
    if given.get("site_file"):
        from yellow_ladder.report.look import name_site

        name_site(Path(given["site_file"]))


class LadderCommand(click.Command):
    """A command that takes the global options too."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        """Take over the global options as parameters of this command."""
        super().__init__(*args, **kwargs)

        @shared_options
        def holder() -> None:
            """Carry the options."""

        self.params += reversed(getattr(holder, "__click_params__", []))

    def invoke(self, ctx: click.Context) -> Any:
        """Merge the global options given after the name with those before it."""
        given = {name: ctx.params.pop(name, None) for name in ("site_file", "as_json", "plain", "verbose")}
        ctx.obj = (ctx.find_object(Choices) or Choices.default()).with_given(given)
        tell_site(given)
        return super().invoke(ctx)


def console(choices: Choices, *, errors: bool = False) -> Console:
    """A console for results (standard output) or for everything else (standard error)."""
    from yellow_ladder.report.terminal import SteadyConsole, Trimmed

    stream = sys.stderr if errors else sys.stdout
    is_live = stream.isatty() and not choices.plain
    width = None if stream.isatty() or "COLUMNS" in os.environ else 100
    return SteadyConsole(
        file=stream if is_live else cast("IO[str]", Trimmed(stream)),
        no_color=not is_live,
        highlight=False,
        emoji=False,
        width=width,
        force_terminal=is_live,
    )


def emit(
    command: str,
    choices: Choices,
    result: Any,
    page: RenderableType,
    *,
    exit_code: int = 0,
    problems: Sequence[Problem] = (),
) -> None:
    """Give the result: one JSON document, or a page to read. Ends the program where `exit_code` is not 0."""
    if choices.as_json:
        document = {
            "format": 1, "command": command, "ok": exit_code == 0, "exit": exit_code, "result": result,
            "problems": [problem.as_record() for problem in problems],
        }  # fmt: skip
        click.echo(json.dumps(document, default=str))
    else:
        console(choices).print(page)
    if exit_code:
        raise click.exceptions.Exit(exit_code)


def agree(choices: Choices, question: str, what: str) -> None:
    """Ask whether to go on; raises BadInput where there is nobody to ask, AnswerNo where the answer is no."""
    if choices.as_json or not sys.stdin.isatty():
        text = f"{what} needs somebody's agreement, and there is no terminal to ask at"
        raise BadInput(Problem("not-agreed", text, "say --yes"))
    if not click.confirm(one_line(question), err=True):
        raise AnswerNo(Problem("not-agreed", "not agreed to; nothing was changed", ""))


def failure_document(command: str, error: LadderError) -> dict[str, Any]:
    """The JSON document of a failure."""
    problems = [problem.as_record() for problem in error.problems]
    return {
        "format": 1, "command": command, "ok": False, "exit": error.exit_code, "result": None, "problems": problems,
    }  # fmt: skip


def show_problems(problems: Sequence[Problem]) -> None:
    """Tell problems to a person, on standard error: what is wrong with what, and what to do."""
    is_colourful = sys.stderr.isatty() and "NO_COLOR" not in os.environ and "--plain" not in sys.argv
    for number, problem in enumerate(problems):
        mark = click.style("✘", fg="red", bold=True) if is_colourful else "✘"
        click.echo(f"{mark} {one_line(problem.message)}", err=True)
        if problem.where and problem.where not in problem.message:
            click.echo(f"  at {one_line(problem.where)}", err=True)
        follows = problems[number + 1].remedy if number + 1 < len(problems) else ""
        if problem.remedy and problem.remedy != follows:  # said once for all that it helps against
            remedy = f"  → {one_line(problem.remedy)}"
            click.echo(click.style(remedy, fg="cyan") if is_colourful else remedy, err=True)


def parse_version(_ctx: click.Context, _parameter: click.Parameter, value: str | None) -> Any:
    """A click callback for versions."""
    if value is None:
        return None
    from yellow_ladder.release.versions import Version

    try:
        return Version(value)
    except ValueError as fault:
        raise click.BadParameter(str(fault)) from fault


to_option = click.option(
    "--to",
    "target",
    metavar="VERSION",
    callback=parse_version,
    help="The version to go to (default: newest stable).",
)


def wish_options(function: F) -> F:
    """Add the options that allow more than stable releases."""
    function = click.option("--no-wait", is_flag=True, help="Do not wait for days of use or people's work.")(function)
    function = click.option("--withdrawn", is_flag=True, help="Allow releases that were withdrawn.")(function)
    return click.option("--preview", "previews", is_flag=True, help="Allow previews on the way and as newest.")(
        function
    )

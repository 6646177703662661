"""The program: global options, the table of commands, and the one place where errors are caught."""

from __future__ import annotations

import importlib
import io
import json
import sys
from typing import Any

import click

from yellow_ladder import __version__
from yellow_ladder.cli.base import Choices, failure_document, shared_options, show_problems, tell_site
from yellow_ladder.errors import BadInput, LadderError, OwnFault, Problem
from yellow_ladder.nolinks import LinkInTheWay

# Commands are loaded when they are called: `yl --help` must not wait for what only one of them needs.
COMMANDS = {
    "init": "Look at an installed application and write a first site file.",
    "sheet": "Draft the release sheets that a vendor's archives lack.",
    "survey": "Show what is installed and what differs from its release.",
    "route": "Show the rungs (releases) from the present version to another.",
    "settings": "Show what becomes of the site's settings, and decide conflicts.",
    "check": "Ask every check, and show all findings together.",
    "backup": "Make, list, test and restore stand-alone backups.",
    "climb": "Upgrade in place: plan, back up, place, migrate, compare.",
    "adjust": "Correct services, limits and the like in a climb that is under way.",
    "verify": "Compare data now with the state before a climb.",
    "descend": "Go back to the state before a climb.",
    "settle": "Accept a climb for good, and remove what was kept for going back.",
    "history": "Show past climbs, how long they took, how they ended.",
    "pack": "Make a release archive from a tree with its sheet.",
    "demo": "Prepare the demonstration site and run an example on it.",
}


class Program(click.Group):
    """A group that loads a command's module when the command is called."""

    def list_commands(self, _ctx: click.Context) -> list[str]:
        """In the order of use."""
        return list(COMMANDS)

    def get_command(self, _ctx: click.Context, name: str) -> click.Command | None:
        """Load one command."""
        if name not in COMMANDS:
            return None
        module = importlib.import_module(f"yellow_ladder.cli.{name}")
        command: click.Command = module.command
        return command

    def format_commands(self, _ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """List the commands without loading them."""
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))


@click.command(cls=Program, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, "--version", prog_name="yellow-ladder")
@shared_options
@click.pass_context
def program(ctx: click.Context, /, **given: Any) -> None:
    """Take a self-hosted application and its databases from one version to the next, in place.

    Everything is backed up and read back before anything changes, compared afterwards, and the site can go back.
    Begin with `yl init DIR`, then `yl survey` beside the site file; `yl demo` shows the whole on an example.
    """
    ctx.obj = (ctx.obj or Choices.default()).with_given(given)
    tell_site(given)


def run() -> None:
    """Run the program; every error becomes a message, its remedy and its exit code."""
    sys.exit(_run(sys.argv[1:]))


def _run(arguments: list[str]) -> int:
    as_json = "--json" in arguments
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            # The names of files are bytes, and a terminal's encoding need not have them all.
            stream.reconfigure(errors="backslashreplace")  # a file name need not be text
    name = next((word for word in arguments if word in COMMANDS), "")
    try:
        # Without its standalone mode, click returns the status of a command that ends early.
        status = program.main(args=arguments, prog_name="yl", standalone_mode=False)
    except LadderError as error:
        return _fail(error, name, as_json=as_json)
    except click.ClickException as misuse:
        return _misused(misuse, name, as_json=as_json)
    except (KeyboardInterrupt, click.Abort):
        interrupted = Problem("interrupted", "interrupted; nothing on the site was changed by this command", "")
        show_problems([interrupted])
        return 130
    except BrokenPipeError:
        return 0
    except OSError as refusal:
        return _fail(_from_system(refusal), name, as_json=as_json)
    except Exception as fault:  # noqa: BLE001  the outermost function: the person gets a message, not a trace
        return _own_fault(fault, name, as_json=as_json)
    return status if isinstance(status, int) else 0


def _fail(error: LadderError, name: str, *, as_json: bool) -> int:
    if as_json:
        click.echo(json.dumps(failure_document(name, error)))
    else:
        show_problems(error.problems)
    return error.exit_code


def _from_system(refusal: OSError) -> LadderError:
    where = str(refusal.filename or "")
    if isinstance(refusal, LinkInTheWay):
        text = f"the way to {where} leads through a link, and links of other accounts are not followed"
        remedy = "see who put it there; remove it, or name the place that it leads to"
        return BadInput(Problem("link-in-the-way", text, remedy, where))
    text = f"the system refused: {refusal.strerror or refusal}" + (f" ({where})" if where else "")
    return BadInput(Problem("system", text, "give this account the rights, or correct the path", where))


def _misused(misuse: click.ClickException, name: str, *, as_json: bool) -> int:
    if as_json:
        error = BadInput(Problem("usage", misuse.format_message(), f"see yl {name} --help".replace("  ", " ")))
        click.echo(json.dumps(failure_document(name, error)))
    else:
        misuse.show()
    return 2


def _own_fault(fault: Exception, name: str, *, as_json: bool) -> int:
    if "-v" in sys.argv or "--verbose" in sys.argv:
        import traceback

        traceback.print_exc()
    text = f"a fault of the tool itself: {type(fault).__name__}: {fault}"
    remedy = "if a climb was under way, its journal holds: `yl history` says how far it is; -v shows the trace"
    return _fail(OwnFault(Problem("own-fault", text, remedy)), name, as_json=as_json)

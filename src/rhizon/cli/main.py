"""The entry point: finds the command, runs it, and is the one place that turns errors into text and exit codes."""

import contextlib
import gc
import importlib
import io
import itertools
import os
import sys
from collections.abc import Sequence
from typing import Any

import click

from rhizon import __version__, interrupts
from rhizon.cli.commands import COMMANDS, FIRST_EVENING, SECTIONS
from rhizon.core.errors import CancelledError, InputError, RhizonError, StateError

__all__ = ["main", "root"]

EPILOG = (
    "Exit codes: 0 done, 1 findings or failure, 2 usage, 3 no solution, 4 integrity, 5 network, 6 not ready, "
    "7 interrupted and rolled back."
)

# Words that people type for a command: not second names, but guesses that lead to it.
MEANT = {
    **dict.fromkeys(("launch", "up", "boot"), "start"),
    **dict.fromkeys(("reboot", "bounce"), "restart"),
    **dict.fromkeys(("attach", "command", "type"), "console"),
    **dict.fromkeys(("logs", "tail", "output"), "log"),
    **dict.fromkeys(("state", "top"), "status"),
    **dict.fromkeys(("halt", "down", "kill"), "stop"),
    **dict.fromkeys(("ls", "servers", "ps"), "list"),
    **dict.fromkeys(("install", "create", "new", "add", "setup", "init"), "provision"),
    **dict.fromkeys(("upgrade", "refresh"), "update"),
    **dict.fromkeys(("remove", "uninstall", "rm"), "delete"),
    **dict.fromkeys(("rollback", "revert", "back"), "undo"),
    **dict.fromkeys(("doctor", "verify", "diagnose", "health"), "check"),
    **dict.fromkeys(("fix", "heal"), "repair"),
    **dict.fromkeys(("save", "snapshot"), "backup"),
    **dict.fromkeys(("config", "options", "properties"), "settings"),
    **dict.fromkeys(("why", "reason"), "explain"),
    **dict.fromkeys(("java", "mono"), "runtimes"),
    **dict.fromkeys(("port", "firewall"), "ports"),
    **dict.fromkeys(("ram", "heap"), "memory"),
    **dict.fromkeys(("sbom",), "bom"),
    **dict.fromkeys(("copy", "duplicate", "cp"), "clone"),
    **dict.fromkeys(("mv", "relocate"), "move"),
    **dict.fromkeys(("machine", "ledger"), "host"),
    **dict.fromkeys(("resolve", "pick"), "solve"),
}
EVERYWHERE = frozenset(("--json", "--events", "-q", "--quiet", "-v", "--verbose", "--wide", "--debug"))
WIDEST = max(map(len, COMMANDS))


class _LazyGroup(click.Group):
    """Imports a command's module when that command runs."""

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:  # noqa: ARG002
        if cmd_name not in COMMANDS:
            return None
        module, _, name = COMMANDS[cmd_name].where.partition(":")
        command: click.Command = getattr(importlib.import_module(f"rhizon.cli.commands.{module}"), name)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        name = args[0]
        if name not in COMMANDS and not name.startswith("-"):
            import difflib

            guess = [MEANT[name]] if name in MEANT else difflib.get_close_matches(name, COMMANDS, n=1)
            ctx.fail(f"There is no command {name!r}." + (f" Did you mean {guess[0]!r}?" if guess else ""))
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:  # noqa: ARG002
        for section in SECTIONS:
            rows = [(name.ljust(WIDEST), one.summary) for name, one in COMMANDS.items() if one.section == section]
            with formatter.section(section):
                formatter.write_dl(rows, col_max=14)


@click.group(
    cls=_LazyGroup,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    epilog=EPILOG,
)
@click.version_option(__version__, "--version", prog_name="rhizon", message="%(prog)s %(version)s")
@click.pass_context
def root(ctx: click.Context) -> None:
    """From a modpack or a content list to a dedicated server that your players can join.

    A server is named by its name (rhizon list) or its folder. Every command takes --json, --events, --quiet, --verbose
    and --help, before its name or after it; those that change something take --dry-run.
    """
    if ctx.invoked_subcommand is None:
        click.echo(_first_evening(ctx))


def _first_evening(ctx: click.Context) -> str:
    """The few commands that one needs first, and where the rest is."""
    formatter = ctx.make_formatter()
    formatter.write_text("Rhizon: from a modpack or a content list to a dedicated server that your players can join.")
    with formatter.section("A first evening"):
        formatter.write_dl([(name.ljust(WIDEST), COMMANDS[name].summary) for name in FIRST_EVENING], col_max=14)
    with formatter.section("More"):
        formatter.write_dl(
            [
                ("rhizon --help", f"all {len(COMMANDS)} commands"),
                ("rhizon COMMAND -h", "options and examples of one"),
                ("rhizon help", "guides, and what an error or a finding means"),
            ]
        )
    return formatter.getvalue().rstrip("\n")


def main(arguments: Sequence[str] | None = None) -> None:
    """Runs the command line and exits."""
    given = _with_the_command(list(sys.argv[1:] if arguments is None else arguments))
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")  # a terminal without our marks shows ? in their place
    code = _run(given)
    interrupts.ignore()  # what is left to do is Python's own end
    sys.exit(code)


def _with_the_command(given: list[str]) -> list[str]:
    """Options that every command has may stand before the command, too; they are moved behind its words."""
    lead = [*itertools.takewhile(EVERYWHERE.__contains__, given)]
    rest = given[len(lead) :]
    if not rest or rest[0].startswith("-"):
        return given if "--json" in lead else rest  # the help has no other form than text
    end = rest.index("--") if "--" in rest else len(rest)
    return [*rest[:end], *lead, *rest[end:]]


def _run(given: list[str]) -> int:
    """Runs the command; every error becomes a text or a JSON object, and an exit code."""
    debug = "--debug" in given
    gc.set_threshold(50_000, 20, 50)  # a large catalog is many small values that live to the end: looking costs a tenth
    interrupts.install()
    try:
        code: Any = root.main(args=given, prog_name="rhizon", standalone_mode=False)
        if interrupts.committed() and interrupts.asked():
            click.echo("interrupted after the change was made; the command finished", err=True)
        return code if isinstance(code, int) else 0
    except click.exceptions.Exit as done:
        return done.exit_code
    except click.exceptions.NoArgsIsHelpError as bare:
        click.echo(bare.format_message())
        return 0
    except click.UsageError as wrong:
        command = wrong.ctx.command_path if wrong.ctx else "rhizon"
        error: RhizonError = InputError("usage", wrong.format_message(), hint=f"See: {command} --help")
    except click.ClickException as wrong:
        error = InputError("usage", wrong.format_message(), hint="See: rhizon --help")
    except (click.Abort, KeyboardInterrupt):
        interrupts.ignore()
        error = _interrupted()
    except BrokenPipeError:
        _hush()
        return 0
    except RhizonError as known:
        if debug:
            raise
        error = known
    except OSError as refused:
        if debug:
            raise
        what = f"{refused.filename}: {refused.strerror}" if refused.filename else str(refused.strerror or refused)
        error = StateError(
            "file-trouble",
            f"the system refused: {what}",
            hint="Check free space and permissions there, then run the same command again.",
        )
    except Exception as bug:
        if debug:
            raise
        error = RhizonError(
            "bug",
            f"internal error: {type(bug).__name__} in {_where(bug)}",  # its text may hold a secret
            hint="Run it again with --debug and send its output to the authors, with what you did.",
        )
    if interrupts.committed():
        error.details = (*error.details, "the change itself was made before this error")
    from rhizon.cli.output import show_error, write_json

    try:
        if "--json" in given:
            from rhizon.cli.command import error_object

            write_json(error_object(error))
        else:
            show_error(error)
    except OSError:  # not even that can be written there: the exit code must do, and standard error if it can
        with contextlib.suppress(OSError):
            os.write(2, f"error: {error.message}\n".encode("utf-8", "replace"))
    return error.exit_code


def _interrupted() -> RhizonError:
    """Before the commit point of a change everything was rolled back, after it nothing can be."""
    if interrupts.committed():
        return StateError(
            "cut-short",
            "interrupted after the change was made, before the steps that follow it were finished",
            hint="Check the server to see what is left to do: rhizon list, then rhizon check with its name.",
        )
    return CancelledError(
        "interrupted", "interrupted; all changes were rolled back", hint="Run the same command again when you like."
    )


def _where(bug: BaseException) -> str:
    """The place in the code where it was raised."""
    last = bug.__traceback__
    while last is not None and last.tb_next is not None:
        last = last.tb_next
    if last is None:
        return "an unknown place"
    return f"{os.path.basename(last.tb_frame.f_code.co_filename)}:{last.tb_lineno}"  # noqa: PTH119


def _hush() -> None:
    """The reader of our output went away: nothing more is to be said, not even at exit."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())

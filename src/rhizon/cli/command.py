"""What all commands share: their options, the one way an answer is given, several servers in one command."""

import contextlib
import functools
import sys
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from rhizon.cli.output import Output, Step, console, next_steps, say, show_error, show_findings, show_table, verdict
from rhizon.cli.servers import SERVER, Server, every_server
from rhizon.core.errors import RhizonError
from rhizon.core.finding import Finding

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.host import Host
    from rhizon.cli.progress import CommandReporter

__all__ = [
    "Answer",
    "Call",
    "Example",
    "RhizonCommand",
    "RhizonGroup",
    "answer_object",
    "command",
    "error_object",
    "worst",
]

# The exit code that counts where several servers ended differently: the first of these that occurs.
WORST_FIRST = (2, 4, 7, 6, 5, 3, 1, 0)
FORMAT = "rhizon-answer/1"
COMMON = ("--json", "--events", "-q", "-v", "--wide", "--debug", "-h")

Example = tuple[str, str]  # a command as typed, and what it does


class Answer(NamedTuple):
    """What a command answers: its result, the verdict in one line, what a person reads below it, and what is next.

    ``result`` is a struct: with ``--json`` it is the object below "result", without its own findings. ``exit_code`` is
    0 for done; ``good`` says which mark the verdict bears.
    """

    result: object
    headline: str = ""
    body: Callable[["Console"], None] | None = None
    findings: Sequence[Finding] = ()
    next: Sequence[Step] = ()
    exit_code: int = 0
    good: bool | None = None


class Call:
    """One call of a command: how it is to speak, what was asked of every command, and this machine."""

    def __init__(self, out: Output, *, dry_run: bool, stop_first: bool, offline: bool, results: bool) -> None:
        self.out = out
        self.dry_run = dry_run
        self.stop_first = stop_first
        self._offline = offline
        self.results = results
        self._reporter: CommandReporter | None = None

    @functools.cached_property
    def host(self) -> "Host":
        """This machine."""
        from rhizon.app.host import this_host

        return this_host(offline=self._offline)

    @property
    def asks(self) -> bool:
        """Whether there is a person to ask."""
        return sys.stdin.isatty() and sys.stderr.isatty() and not self.out.json and not self.out.events

    @property
    def reporter(self) -> "CommandReporter":
        """Progress on standard error; opened at its first use."""
        return self.log_reporter(log=False)

    def log_reporter(self, *, log: bool) -> "CommandReporter":
        """The same, which with ``log`` shows the lines that a server prints, too."""
        if self._reporter is None:
            from rhizon.cli.progress import new_reporter

            self._reporter = new_reporter(self.out, log=log, results=self.results)
        return self._reporter

    def close(self) -> None:
        """Takes away what shows progress."""
        if self._reporter is not None:
            self._reporter.close()
            self._reporter = None

    def table(
        self, to: "Console", columns: Sequence[str], rows: Sequence[Sequence[str]], *, right: Sequence[str] = (),
        prose: Sequence[str] = (),
    ) -> None:  # fmt: skip
        """A table at the width that was asked for."""
        show_table(to, columns, rows, right=right, prose=prose, wide=self.out.wide)


class RhizonCommand(click.Command):
    """A command whose help has its own options first, then those of every command, then examples."""

    examples: tuple[Example, ...] = ()

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        own: list[tuple[str, str]] = []
        common: list[tuple[str, str]] = []
        for one in self.get_params(ctx):
            record = one.get_help_record(ctx) if isinstance(one, click.Option) else None
            if record is not None:
                (common if {*one.opts} & {*COMMON} else own).append(record)
        if own:
            with formatter.section("Options"):
                formatter.write_dl(own)
        with formatter.section("Common options"):
            formatter.write_dl(common)

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        super().format_epilog(ctx, formatter)
        _write_examples(formatter, self.examples)


class RhizonGroup(click.Group):
    """A group whose help ends with examples, and which shows it when nothing follows it."""

    examples: tuple[Example, ...] = ()

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        super().format_epilog(ctx, formatter)
        _write_examples(formatter, self.examples)


def _write_examples(formatter: click.HelpFormatter, examples: Sequence[Example]) -> None:
    if not examples:
        return
    with formatter.section("Examples"):
        for line, meaning in examples:
            formatter.write(f"{'':>{formatter.current_indent}}{line}\n")
            formatter.write(f"{'':>{formatter.current_indent}}    {meaning}\n")


def command(
    name: str,
    *,
    examples: Sequence[Example],
    verbose: str = "",
    group: click.Group | None = None,
    tables: bool = False,
    dry_run: str = "",
    stops: bool = False,
    several: bool = False,
    alone: str = "",
    results: bool = True,
) -> Callable[[Callable[..., Answer | None]], click.Command]:
    """Makes a function a command. It is called with ``call`` (a :class:`Call`) and its own parameters, and returns an
    :class:`Answer`, or None when it has said everything itself.

    ``verbose`` says what --verbose adds; ``dry_run`` is the help of that option, where the command writes; ``stops``
    gives it --stop-first; ``several`` lets it take several servers or --all, and calls the function with each as
    ``server`` (with the flag that ``alone`` names also without any: ``server`` is None then); ``results`` shows the
    result of every step, not only a spinner.
    """

    def decorate(function: Callable[..., Answer | None]) -> click.Command:
        def called(**given: Any) -> int:
            flags = {flag: given.pop(flag, False) for flag in ("json", "quiet", "verbose", "wide", "events")}
            given.pop("debug", None)
            call = Call(
                Output(**flags),
                dry_run=given.pop("dry_run", False),
                stop_first=given.pop("stop_first", False),
                offline=given.pop("offline", False),
                results=results,
            )
            with contextlib.closing(call):
                if several and not (alone and given[alone] and not given["servers"] and not given["all_servers"]):
                    return _each(function, call, given.pop("servers"), given.pop("all_servers"), given)
                if several:
                    del given["servers"], given["all_servers"]
                    given["server"] = None
                answer = function(call=call, **given)
            return _shown(call, answer) if answer is not None else 0

        parameters = list(reversed(getattr(function, "__click_params__", [])))
        if several:
            parameters = [
                click.Argument(["servers"], nargs=-1, type=SERVER, metavar="[SERVER]..."),
                *parameters,
                click.Option(["--all", "all_servers"], is_flag=True, help="Every server of this machine."),
            ]
        if stops:
            parameters.append(click.Option(["--stop-first"], is_flag=True, help="Stop the server first if it runs."))
        if dry_run:
            parameters.append(click.Option(["--dry-run"], is_flag=True, help=dry_run))
        made = RhizonCommand(name, callback=called, params=[*parameters, *_common(verbose, tables=tables)])
        made.help = function.__doc__
        made.examples = tuple(examples)
        if group is not None:
            group.add_command(made)
        return made

    return decorate


def _common(verbose: str, *, tables: bool) -> Iterator[click.Option]:
    """The options that every command has."""
    more = f"Also print {verbose}." if verbose else "Accepted everywhere; this command has no more to print."
    yield click.Option(["--json"], is_flag=True, help="Print one JSON object and nothing else (rhizon help json).")
    yield click.Option(["--events"], is_flag=True, help="Report progress as JSON lines on standard error.")
    yield click.Option(["-q", "--quiet"], is_flag=True, help="Print nothing but errors.")
    yield click.Option(["-v", "--verbose"], is_flag=True, help=more)
    if tables:
        yield click.Option(["--wide"], is_flag=True, help="Print table cells whole, however wide.")
    yield click.Option(["--debug"], is_flag=True, help="Show a traceback when something fails.")


def _shown(call: Call, answer: Answer) -> int:
    """Prints the answer; its exit code."""
    out = call.out
    if out.json:
        from rhizon.cli.output import write_json

        write_json(answer_object(answer))
    elif not out.quiet:
        to = console()
        if answer.headline:
            verdict(to, answer.headline, good=_is_good(answer))
        if answer.body is not None:
            answer.body(to)
        show_findings(to, answer.findings)
        if call.dry_run:
            say(to, "Nothing was changed. Run the same command without --dry-run to do it.")
        else:
            next_steps(to, answer.next)
    return answer.exit_code


def _is_good(answer: Answer) -> bool:
    return answer.good if answer.good is not None else not answer.exit_code


def answer_object(answer: Answer) -> dict[str, object]:
    """The answer as docs/json.md describes it."""
    import msgspec

    from rhizon.core.model.base import enc_hook

    result = answer.result
    if hasattr(result, "findings"):  # they are said once, beside the result
        result = msgspec.to_builtins(result, enc_hook=enc_hook)
        result.pop("findings", None)
    return {
        "format": FORMAT,
        "ok": not answer.exit_code,
        "exit_code": answer.exit_code,
        "result": result,
        "findings": list(answer.findings),
    }


def error_object(error: RhizonError) -> dict[str, object]:
    """The same for a command that failed."""
    return {
        "format": FORMAT,
        "ok": False,
        "exit_code": error.exit_code,
        "result": None,
        "findings": [],
        "error": _error(error),
    }


def _error(error: RhizonError) -> dict[str, object]:
    """The error as docs/json.md describes it."""
    from rhizon.core.errors import NoSolutionError
    from rhizon.core.names import printable

    shown: dict[str, object] = {
        "code": error.code,
        "message": printable(error.message),
        "hint": printable(error.hint),
        "details": [printable(one) for one in error.details],
    }
    if isinstance(error, NoSolutionError) and error.core:
        shown |= {"core": error.core, "repairs": error.repairs, "clashes": error.clashes}
    return shown


class _Ended(NamedTuple):
    """How the command ended for one server."""

    server: Server
    answer: Answer | None
    error: RhizonError | None

    @property
    def exit_code(self) -> int:
        if self.error is not None:
            return self.error.exit_code
        return self.answer.exit_code if self.answer is not None else 0

    @property
    def summary(self) -> str:
        """How it ended in a few words: what the verdict says first of the server, or the error's code."""
        if self.error is not None:
            return self.error.code
        headline = self.answer.headline if self.answer is not None else ""
        return headline.partition(": ")[2].partition(";")[0].partition(": ")[0]


def _each(
    function: Callable[..., Answer | None], call: Call, servers: Sequence[Server], every: bool, given: dict[str, Any]
) -> int:
    """The command for one server or for several: a line for each as it ends, then a table; the worst exit code."""
    if every and servers:
        raise click.UsageError("--all is every server of this machine; do not name servers too.")
    if not every and not servers:
        raise click.UsageError("Name a server, or --all. The names: rhizon list")
    if not every and len(servers) == 1:
        answer = function(call=call, server=servers[0], **given)
        call.close()
        return _shown(call, answer) if answer is not None else 0
    ended = []
    call.results = False  # the line of each server says it
    for server in every_server(call.host) if every else dict.fromkeys(servers):
        try:
            one = _Ended(server, function(call=call, server=server, **given), None)
        except RhizonError as error:
            one = _Ended(server, None, error)
        call.close()
        _tell(call.out, one)
        ended.append(one)
        vars(call).pop("host", None)  # looked at again for the next
        if one.exit_code == 7:  # the person wants no more of it
            break
    return _together(call, ended)


def _tell(out: Output, one: _Ended) -> None:
    if out.json or (out.quiet and one.error is None):
        return
    if one.error is not None:
        click.echo(f"{one.server.label}:", err=True)
        show_error(one.error)
    elif one.answer is not None:
        to = console()
        verdict(to, one.answer.headline, good=_is_good(one.answer))
        show_findings(to, one.answer.findings)


def _together(call: Call, ended: Sequence[_Ended]) -> int:
    """The table and the exit code over several servers."""
    code = worst([one.exit_code for one in ended])
    if call.out.json:
        from rhizon.cli.output import write_json

        servers = [
            {
                "server": one.server.label,
                "folder": str(one.server.folder),
                **(error_object(one.error) if one.error is not None else answer_object(one.answer or Answer({}))),
            }
            for one in ended
        ]
        write_json(answer_object(Answer({"servers": servers}, exit_code=code)))
    elif not call.out.quiet:
        to = console()
        if not ended:
            verdict(to, "there are no servers on this machine")
        else:
            to.print()
            rows = [(one.server.label, one.summary, str(one.exit_code)) for one in ended]
            call.table(to, ("server", "result", "exit code"), rows, right=("exit code",))
            if call.dry_run:
                say(to, "Nothing was changed. Run the same command without --dry-run to do it.")
    return code


def worst(codes: Sequence[int]) -> int:
    """The one exit code of several."""
    return next((code for code in WORST_FIRST if code in codes), max(codes, default=0))

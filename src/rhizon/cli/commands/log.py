"""``rhizon log``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.options import AGE, on_option
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.remote.log_there import LogThere
    from rhizon.app.run.logs import LogLine, LogLines, LogWishes

__all__ = ["log"]

STYLES = {"error": "red", "warning": "yellow", "info": ""}


@command(
    "log",
    examples=(
        ("rhizon log marsh --follow", "what it prints, as it comes"),
        ("rhizon log marsh --level warning --run 2", "warnings and errors of the run before the last"),
        ("rhizon log marsh --on lighthouse --level warning", "the log on a rented server, and what it blames"),
        ("rhizon log marsh --grep 'tick took' --since 1h", "lines that match a pattern, of the last hour"),
    ),
)
@click.argument("server", type=SERVER)
@click.option("-f", "--follow", is_flag=True, help="Follow new lines until Ctrl-C; the server keeps running.")
@click.option("--since", type=AGE, metavar="TIME", help="Only what came in this time (30m, 12h, 7d).")
@click.option("--run", type=click.IntRange(1), default=1, metavar="N", help="Run: 1 is the last one, 2 the one before.")
@click.option(
    "--level", type=click.Choice(["info", "warning", "error"]), default="info", help="Only lines of at least."
)
@click.option("--content", metavar="ID", help="Only lines that came while this content was started.")
@click.option("--grep", metavar="PATTERN", help="Only lines that a regular expression matches.")
@on_option
@click.option("--lines", type=click.IntRange(1, 100_000), metavar="N", help="Only the last N lines.")
def log(
    call: Call,
    server: Server,
    follow: bool,
    since: float | None,
    run: int,
    level: str,
    content: str | None,
    grep: str | None,
    lines: int | None,
    on: str | None,
) -> Answer:
    """Print the log of a server: of its current run, or of an earlier one.

    Errors are red and warnings yellow; those that good runs print too are dim, those that none of them did are bold.
    With --on, the log file on a rented server, and why the server failed there: exit code 1 then.
    """
    from rhizon.app.run.logs import LogWishes, read_log

    if on is not None and (follow or since is not None):
        raise click.UsageError("--on reads a log once: leave out --follow and --since.")
    wishes = LogWishes(run=run, since=since, level=level, content=content, grep=grep, lines=lines)  # type: ignore[arg-type]
    if on is not None:
        return _there(call, server, on, wishes)
    found = read_log(call.host, server.folder, wishes)
    if follow:
        _follow(call, server, found, wishes)
    left = f"; {found.left_out} earlier ones left out" if found.left_out else ""
    text = "" if not call.out.json and found.lines else f"{found.name}: {counted(len(found.lines), 'line')}{left}"
    return Answer(found, text, (lambda to: _body(to, found)) if not follow else None)


def _body(to: "Console", found: "LogLines | LogThere") -> None:
    for line in found.lines:
        _show(to, line)


def _show(to: "Console", line: "LogLine") -> None:
    style = "dim" if line.known else f"bold {STYLES[line.level]}" if line.new else STYLES[line.level]
    to.print(line.text, style=style, markup=False, highlight=False, soft_wrap=True)


def _follow(call: Call, server: Server, found: "LogLines", wishes: object) -> None:
    """Prints what is there and then what comes, until Ctrl-C or the server's end."""
    from rhizon.app.run.logs import LogWishes, follow_log
    from rhizon.cli.output import console
    from rhizon.cli.terminal import stop_signals

    assert isinstance(wishes, LogWishes)
    to = console()
    _body(to, found)
    with stop_signals() as asked:
        for line in follow_log(call.host, server.folder, wishes, asked):
            _show(to, line)


def _there(call: Call, server: Server, on: str, wishes: "LogWishes") -> Answer:
    """The log on a rented server, with what it blames."""
    from rhizon.app.remote.log_there import read_log_there

    found = read_log_there(call.host, server.folder, on, wishes, call.reporter)
    call.close()
    left = f"; {found.left_out} earlier ones left out" if found.left_out else ""
    state = "became ready" if found.ready else "did not become ready"
    text = f"{found.name} on {found.remote}: {found.file}: {state}; {counted(len(found.lines), 'line')}{left}"
    bad = any(one.severity == "error" for one in found.findings)
    return Answer(found, text, lambda to: _body(to, found), found.findings, exit_code=int(bad))

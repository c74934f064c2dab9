"""``rhizon console``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.servers import SERVER, Server

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.run.console import ConsoleAnswer

__all__ = ["console"]


@command(
    "console",
    examples=(
        ("rhizon console marsh", "show its output and type commands; Ctrl-D detaches, the server keeps running"),
        ("rhizon console marsh --do 'say high tide at nine'", "type one line, for scripts"),
        ("rhizon console marsh --do save --until 'saved'", "and wait for a line that answers it"),
    ),
)
@click.argument("server", type=SERVER)
@click.option("--do", "line", metavar="LINE", help="Type this line, print what the server answers, and leave.")
@click.option("--until", metavar="PATTERN", help="With --do: wait for a line that this regular expression matches.")
@click.option(
    "--wait",
    "seconds",
    type=click.FloatRange(0, 3600),
    default=10,
    metavar="SECONDS",
    help="With --do: longest time to wait for the answer, in seconds; by default 10.",
)
@click.option("--read-only", is_flag=True, help="Show what the server prints; type nothing.")
def console(
    call: Call, server: Server, line: str | None, until: str | None, seconds: float, read_only: bool
) -> Answer | None:
    """Attach to the console of a running server, from any terminal; several can be attached at once.

    Detaching does not stop the server. With --do: exit code 1 when --until did not match in time.
    """
    if line is None and until is not None:
        raise click.UsageError("--until belongs to --do.")
    if line is None:
        from rhizon.cli.console_view import ConsoleView

        ConsoleView(call, server).show(read_only=read_only)
        return None
    from rhizon.app.run.console import type_line
    from rhizon.cli.terminal import stop_signals

    with stop_signals() as asked:
        done = type_line(call.host, server.folder, line, asked, until=until, seconds=seconds)
    text = "" if done.found else f"{done.name}: no line matched {until!r} within {seconds:.0f} s"
    return Answer(done, text, lambda to: _body(to, done), exit_code=0 if done.found else 1)


def _body(to: "Console", done: "ConsoleAnswer") -> None:
    for one in done.lines:
        to.print(one, markup=False, highlight=False, soft_wrap=True)

"""``rhizon isolate``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import Step, say, show_pairs
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.run.isolate import IsolateResult

__all__ = ["isolate"]


@command(
    "isolate",
    examples=(
        ("rhizon isolate marsh", "which content keeps the server from starting?"),
        ("rhizon isolate marsh --line 'tick took'", "which content makes the server print this?"),
    ),
)
@click.argument("server", type=SERVER)
@click.option(
    "--wait",
    type=click.FloatRange(1, 86400),
    metavar="SECONDS",
    help="Longest time until ready of each start, in seconds.",
)
@click.option("--line", metavar="TEXT", help="Look for this text in the log, instead of a start that fails.")
def isolate(call: Call, server: Server, wait: float | None, line: str | None) -> Answer:
    """Find the content that makes a start fail, when the log does not say it.

    Starts copies of the server with parts of its content, at other ports and with new worlds; the server's own folder
    is only read. About ten starts for one culprit of a hundred. Exit code 1 when a culprit was found.
    """
    from rhizon.app.run.isolate import IsolateWishes, isolate_content
    from rhizon.cli.terminal import stop_signals

    with stop_signals() as asked:
        found = isolate_content(call.host, server.folder, call.reporter, asked, IsolateWishes(wait=wait, line=line))
    call.close()
    starts = counted(found.starts, "start")
    if not found.culprits:
        return Answer(found, f"{found.name}: starts with all of its content; nothing to isolate ({starts})", None)
    who = " and ".join(found.culprits)
    text = f"{found.name}: {who} {'is' if len(found.culprits) == 1 else 'together are'} at fault ({starts})"
    inspect = Step(("rhizon", "inspect", f"{found.folder}/{found.files[0]}"), "what it says and what its code shows")
    return Answer(found, text, lambda to: _body(to, found), next=(inspect,), exit_code=1)


def _body(to: "Console", found: "IsolateResult") -> None:
    """The files, the symptom, and how sure it is."""
    show_pairs(
        to,
        [
            ("files", ", ".join(found.files)),
            ("symptom", f"{found.symptom.code}: {found.symptom.line}" if found.symptom is not None else ""),
            ("with it and what it needs", "fails" if found.fails_alone else "not seen to fail"),
            ("without it", "starts" if found.rest_works else "still fails: something else is wrong too"),
        ],
    )
    say(to, "Remove it from the list, take the release before, or report it to its author.")

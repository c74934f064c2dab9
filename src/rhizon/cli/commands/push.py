"""``rhizon push``."""

from typing import TYPE_CHECKING, Literal

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import say
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted, size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.remote.push import PushResult

__all__ = ["push"]

MOST_ROWS = 30


@command(
    "push",
    examples=(
        ("rhizon push marsh lighthouse --dry-run", "what would be sent"),
        ("rhizon push marsh lighthouse", "send what differs; run it again if the connection broke"),
        ("rhizon push marsh lighthouse --verify", "and compare every file there by its hash"),
    ),
    verbose="every file",
    tables=True,
    dry_run="Show what would be sent and removed, and change nothing there.",
)
@click.argument("server", type=SERVER)
@click.argument("remote", metavar="REMOTE|FILE")
@click.option(
    "--settings", type=click.Choice(["merge", "mine", "theirs"]), default="merge", show_default=True,
    help="Whose edits count in settings files that changed there.",
)  # fmt: skip
@click.option("--keep-old", is_flag=True, help="Do not remove what belongs there no more.")
@click.option("--verify", is_flag=True, help="Compare every file there by its hash; what differs is sent again.")
def push(
    call: Call,
    server: Server,
    remote: str,
    settings: Literal["merge", "mine", "theirs"],
    keep_old: bool,
    verify: bool,
) -> Answer:
    """Send a server to a rented one: only what differs, and complete or marked as incomplete.

    Worlds, player data and logs there are never touched. If it breaks, run it again: it continues. Stop the server
    there first. Exit code 1 when the host does not take something.
    """
    from rhizon.app.remote.push import PushWishes
    from rhizon.app.remote.push import push as send

    wishes = PushWishes(settings=settings, delete=not keep_old, verify=verify, dry_run=call.dry_run)
    done = send(call.host, server.folder, remote, call.reporter, wishes)
    call.close()
    how = {
        "": "",
        "size": "; verified by sizes and times",
        "sent": "; verified by sizes and times, what was sent by its hash there",
        "hash": "; every file verified by its hash there",
    }[done.verified]
    sends = sum(one.action in ("send", "merge") for one in done.steps)
    if done.complete and not sends:
        text = f"{done.remote} is up to date{how}"
    elif done.complete:
        text = f"complete on {done.remote}: {counted(sends, 'file')} sent ({size_text(done.size)}){how}"
    else:
        text = f"{'plan for' if done.planned else 'nothing sent to'} {done.remote}: {counted(sends, 'file')}"
        text += f" ({size_text(done.size)})"
    bad = any(one.severity == "error" for one in done.findings)
    return Answer(done, f"{done.name}: {text}", lambda to: _body(to, done, call), done.findings, exit_code=int(bad))


def _body(to: "Console", done: "PushResult", call: Call) -> None:
    usual = ("keep",) if done.planned else ("keep", "send")
    rows = [(one.action, one.path, one.reason) for one in done.steps if call.out.verbose or one.action not in usual]
    if rows:
        call.table(to, ("action", "file", "reason"), rows[:MOST_ROWS])
    if len(rows) > MOST_ROWS:
        say(to, f"... and {len(rows) - MOST_ROWS} more")

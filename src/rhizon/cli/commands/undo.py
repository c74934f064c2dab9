"""``rhizon undo``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.completion import complete_states
from rhizon.cli.options import key_options, on_option, opening
from rhizon.cli.output import Step, say
from rhizon.cli.rolled_back import rolled_back
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.keep.undo import KeptLine, KeptStateList

__all__ = ["undo"]


@command(
    "undo",
    examples=(
        ("rhizon undo marsh", "take the last change back"),
        ("rhizon undo marsh --on lighthouse", "take the last push to a rented server back"),
        ("rhizon undo marsh --list", "every state one can go back to"),
        ("rhizon undo marsh --at 3 --with-world --dry-run", "show what going back to state 3 would change"),
    ),
    verbose="every file of the plan",
    tables=True,
    dry_run="Show what would change and change nothing.",
    stops=True,
)
@click.argument("server", type=SERVER)
@click.option("--list", "list_", is_flag=True, help="Show the kept states.")
@click.option(
    "--at",
    type=click.IntRange(1),
    metavar="N",
    shell_complete=complete_states,
    help="State to go back to: its number in --list; by default the one before the last change.",
)
@click.option("--with-world", is_flag=True, help="Restore the world too, from the backup made at that time.")
@on_option
@key_options
def undo(
    call: Call,
    server: Server,
    list_: bool,
    at: int | None,
    with_world: bool,
    on: str | None,
    key_file: Path | None,
    passphrase: str | None,
) -> Answer:
    """Take back the last change of a server, or go back to any kept state.

    Files and settings are then exactly as they were. The world stays unless you add --with-world. The state before the
    undo is kept too, so that an undo can be undone. With --on, the last push to a rented server is taken back: what it
    replaced comes back, what it added goes, and what was changed there since stays.
    """
    if on is not None:
        if list_ or at is not None or with_world:
            raise click.UsageError("--on takes the last push back: leave out --list, --at and --with-world.")
        return _there(call, server, on)
    from rhizon.app.keep.undo import UndoWishes, list_kept_states
    from rhizon.app.keep.undo import undo as go_back

    if list_:
        found = list_kept_states(call.host, server.folder)
        newest = tuple(str(one.number) for one in found.states[:1])
        return Answer(
            found,
            f"{counted(len(found.states), 'kept state')}" + (", newest first" if len(found.states) > 1 else ""),
            lambda to: _list(to, found, call),
            found.findings,
            [
                Step(("rhizon", "undo", server.label, "--at", one, "--dry-run"), "what it would change")
                for one in newest
            ],
            exit_code=1 if found.findings else 0,
        )
    wishes = UndoWishes(at, with_world, call.stop_first, call.dry_run, opening(key_file, passphrase))
    done = go_back(call.host, server.folder, call.reporter, wishes)
    call.close()
    return rolled_back(done, server, call)


def _list(to: "Console", found: "KeptStateList", call: Call) -> None:
    if not found.states:
        say(to, "History starts with the first change after provisioning.")
        return
    rows = [(str(one.number), one.kept_at, one.before, _differs(one), one.backup or "-") for one in found.states]
    columns = ("state", "kept at", "before", "going back changes", "world backup")
    call.table(to, columns, rows, right=("state",), prose=("before", "going back changes"))


def _differs(one: "KeptLine") -> str:
    changes = one.changes
    words = [counted(len(changes.releases), "release")] if changes.releases else []
    words += [f"{value.name} {value.before} → {value.after}" for value in changes.target]
    words += [counted(len(changes.settings), "setting")] if changes.settings else []
    words += ["memory"] if changes.memory else []
    return ", ".join(words) or "files only"


def _there(call: Call, server: Server, on: str) -> Answer:
    """The last push is taken back."""
    from rhizon.app.remote.undo_there import undo_there

    done = undo_there(call.host, server.folder, on, call.reporter, dry_run=call.dry_run)
    call.close()
    changed = sum(one.action != "leave" for one in done.steps)
    text = f"{'would take' if done.planned else 'took'} the last push back: {counted(changed, 'file')}"
    rows = [(one.action, one.path, one.reason) for one in done.steps]
    body = (lambda to: call.table(to, ("action", "file", "reason"), rows)) if done.planned or call.out.verbose else None
    return Answer(done, f"{done.name} on {done.remote}: {text}", body, done.findings)

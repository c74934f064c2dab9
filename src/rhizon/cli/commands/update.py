"""``rhizon update``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.changes import show_changes, show_counts, show_diffs, show_plan
from rhizon.cli.command import Answer, Call, command
from rhizon.cli.licence import ask_on_terminal, licence_pending
from rhizon.cli.options import AGE, ask_secret, catalog_options, pairs
from rhizon.cli.output import Step, say
from rhizon.cli.servers import Server

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.provision import ProvisionResult
    from rhizon.app.provision.update import UpdateWishes

__all__ = ["update"]


@command(
    "update",
    examples=(
        ("rhizon update marsh --dry-run", "show which newer releases fit, and what changes for players"),
        ("rhizon update marsh --on-copy", "does it start with the newest releases? nothing changes here"),
        ("rhizon update --all --stop-first", "update every server of this machine"),
        ("rhizon update marsh --careful --in 10m", "on a copy first; then restart the server with it in ten minutes"),
        ("rhizon update marsh --without otterden", "leave otterden out until --with otterden"),
        ("rhizon update marsh --source ./marsh-evening-1.3.rhz", "change to another pack or list"),
    ),
    verbose="every file of the plan and the changed lines of settings files",
    tables=True,
    dry_run="Show what would change and change nothing.",
    stops=True,
    several=True,
)
@click.option(
    "--source",
    type=click.Path(path_type=Path),
    metavar="SOURCE",
    help="Use another pack or list from now on; by default the one the server was made from.",
)
@click.option(
    "--without",
    multiple=True,
    metavar="ID",
    help="Leave this content out from now on, whatever the source says. May be repeated.",
)
@click.option(
    "--hold",
    "held",
    multiple=True,
    metavar="ID=RANGE",
    help="Use only releases of this content in a range from now on, such as '<2.1'. May be repeated.",
)
@click.option(
    "--with",
    "taken_back",
    multiple=True,
    metavar="ID",
    help="End --without or --hold for this content. May be repeated.",
)
@catalog_options
@click.option("--accept-licence", is_flag=True, help="Confirm that you have read and accept the game's licence.")
@click.option("--allow-installer", is_flag=True, help="Allow a loader's own installer program to run.")
@click.option("--on-copy", is_flag=True, help="Try it on a copy of the server: update, start, report, remove the copy.")
@click.option("--keep-copy", is_flag=True, help="With --on-copy: keep the copy.")
@click.option(
    "--careful",
    is_flag=True,
    help="Try it on a copy first, then restart the server with it; undo it if the server does not start.",
)
@click.option(
    "--in", "after", type=AGE, default="0m", metavar="TIME", help="With --careful: stop the server after this time."
)
@click.option("--no-backup", is_flag=True, help="Do not back the world up first.")
def update(
    call: Call,
    server: Server,
    source: Path | None,
    without: tuple[str, ...],
    held: tuple[str, ...],
    taken_back: tuple[str, ...],
    catalogs: tuple[str, ...],
    accept_licence: bool,
    allow_installer: bool,
    on_copy: bool,
    keep_copy: bool,
    careful: bool,
    after: float,
    no_backup: bool,
) -> Answer:
    """Bring servers to the newest releases that fit their list or pack, or one to another list or pack.

    Shows what changes for the server and for the players, backs the world up before it meets other content, and
    merges new settings into your files: where you and the pack changed the same setting, yours stays.
    """
    from rhizon.app.provision.adjust import ContentChanges
    from rhizon.app.provision.update import UpdateWishes
    from rhizon.app.provision.update import update as make

    wishes = UpdateWishes(
        folder=server.folder,
        source=source,
        catalogs=catalogs,
        accept_licence=accept_licence,
        allow_installer=allow_installer,
        stop_first=call.stop_first,
        back_up=not no_backup,
        dry_run=call.dry_run,
        ask_secret=ask_secret if call.asks else None,
        content=ContentChanges(without=without, held=pairs(held, "--hold"), taken_back=taken_back),
    )
    reporter = call.reporter
    if on_copy:
        return _on_copy(call, wishes, server, keep=keep_copy)
    if careful:
        return _carefully(call, wishes, server, after)
    made = make(call.host, wishes, reporter, ask_on_terminal(reporter) if call.asks else None)
    call.close()
    if made.state == "prepared":
        raise licence_pending(made, accept_licence=("--accept-licence",))
    planned = made.state == "planned"
    nothing = made.changes_nothing
    headline = "up to date" if nothing else "plan for the update" if planned else "updated"
    steps = [Step(("rhizon", "run", server.label), "start it")]
    if made.changes is not None and made.changes.for_players and not planned:
        kit = ("rhizon", "kit", server.label, "-o", f"{made.name}-changes.zip", "--against", "previous")
        steps.append(Step(kit, "what players have to change, in one zip"))
    if made.kept is not None:
        steps.append(Step(("rhizon", "undo", server.label), "take the update back"))
    return Answer(
        made,
        f"{made.name}: {headline}",
        None if nothing else lambda to: _body(to, made, call),
        made.findings,
        () if nothing else steps,
    )


def _on_copy(call: Call, wishes: "UpdateWishes", server: Server, *, keep: bool) -> Answer:
    """The update tried on a copy; the server itself is as it was."""
    from rhizon.app.machine.try_update import try_update
    from rhizon.cli.terminal import stop_signals

    with stop_signals() as asked:
        done = try_update(call.host, wishes, call.reporter, asked, keep=keep)
    call.close()
    works = f"works: ready after {done.ready_seconds:.1f} s" if done.ready_seconds is not None else f"fails: {done.why}"
    kept = (Step(("rhizon", "delete", done.copy), "remove the copy"),) if keep else ()
    return Answer(
        done,
        f"{done.name}: on a copy the update {works}",
        lambda to: show_changes(to, done.update.changes, call) if done.update.changes is not None else None,
        done.update.findings,
        (Step(("rhizon", "update", server.label), "update the server itself"), *kept) if not done.why else kept,
        exit_code=0 if not done.why else 6,
    )


def _carefully(call: Call, wishes: "UpdateWishes", server: Server, after: float) -> Answer:
    """The update, once a copy has started with it."""
    from rhizon.app.machine.careful_update import careful_update
    from rhizon.cli.terminal import stop_signals

    reporter = call.reporter
    with stop_signals() as asked:
        done = careful_update(
            call.host,
            wishes,
            reporter,
            asked,
            after=after,
            ask_licence=ask_on_terminal(reporter) if call.asks else None,
        )
    call.close()
    ready = f"ready after {done.ready_seconds:.1f} s" if done.ready_seconds is not None else "not running, as before"
    texts = {
        "planned": "plan for the update",
        "nothing": "up to date",
        "trial-failed": f"not updated: a copy does not start with the update: {done.why}",
        "updated": f"updated, {ready}",
        "undone": f"update undone, because the server did not start: {done.why}; {ready}",
    }
    failed = done.outcome in ("trial-failed", "undone")
    back = (Step(("rhizon", "undo", server.label), "take the update back"),) if done.outcome == "updated" else ()
    return Answer(
        done,
        f"{done.name}: {texts[done.outcome]}",
        None if done.outcome == "nothing" else lambda to: _body(to, done.update, call),
        done.update.findings,
        back,
        exit_code=6 if failed else 0,
    )


def _body(to: "Console", made: "ProvisionResult", call: Call) -> None:
    planned = made.state == "planned"
    if made.changes is not None:
        show_changes(to, made.changes, call)
    if planned or call.out.verbose:
        show_plan(to, made.steps, call, whole=call.out.verbose)
        show_diffs(to, made.diffs)
    show_counts(to, made.steps, planned=planned)
    say(to, f"world: {made.world}" + (f"; backup {made.backup}" if made.backup else ""))
    if made.changes is not None:
        after = "; after the update: rhizon kit" if planned else ""
        say(to, f"players: {f'must change too{after}' if made.changes.for_players else 'nothing to do'}")

"""``rhizon provision``."""

from pathlib import Path
from typing import TYPE_CHECKING, Literal

import click

from rhizon.cli.changes import show_changes, show_counts, show_diffs, show_plan
from rhizon.cli.command import Answer, Call, command
from rhizon.cli.commands.start import become_keeper
from rhizon.cli.completion import complete_games, complete_roles, complete_settings
from rhizon.cli.folder_files import show_folder_files
from rhizon.cli.licence import ask_on_terminal, licence_pending
from rhizon.cli.options import (
    MIB,
    ask_secret,
    catalog_options,
    generated_names,
    pairs,
    port_numbers,
    secret_option,
    secret_values,
)
from rhizon.cli.output import Step, say
from rhizon.cli.servers import FOLDER, Server

if TYPE_CHECKING:
    from collections.abc import Callable

    from rich.console import Console

    from rhizon.app.provision import ProvisionResult

__all__ = ["provision"]

FETCH = "fetch"


@command(
    "provision",
    examples=(
        ("rhizon provision tarnholt.list.toml marsh --dry-run", "show what a server from this list would be"),
        ("rhizon provision tarnholt.list.toml marsh --set max_players=12 --memory 2G", "make it"),
        ("rhizon provision marsh.lock.json ./marsh-test --name test", "a second server with exactly the same releases"),
    ),
    verbose="every file of the plan, the reasons for the runtime and the server's log",
    tables=True,
    dry_run="Show the plan and change nothing in the folder.",
    stops=True,
)
@click.argument("source", type=click.Path(path_type=Path))
@click.argument("server", type=FOLDER, metavar="FOLDER|SERVER")
@catalog_options
@click.option("--name", metavar="NAME", help="Name of the server on this machine; by default that of the source.")
@click.option(
    "--game",
    metavar="ID",
    shell_complete=complete_games,
    help="Game the archives of a folder are for, if it cannot be inferred.",
)
@click.option(
    "--runtime",
    metavar="PROGRAM|fetch",
    help="Runtime to use: a program or its folder; `fetch` downloads a missing one into Rhizon's own folder.",
)
@click.option("--memory", "memory_mib", type=MIB, metavar="MIB", help="Heap size in MiB (or 1536M, 2G).")
@click.option(
    "--port", "ports", multiple=True, metavar="ROLE=N", shell_complete=complete_roles, help="Port number of a role."
)
@click.option(
    "--set",
    "settings",
    multiple=True,
    metavar="NAME=VALUE",
    shell_complete=complete_settings,
    help="Set a setting (names: rhizon game show GAME).",
)
@secret_option
@click.option("--world", type=click.Path(path_type=Path), metavar="FOLDER", help="Import a copy of this world folder.")
@click.option("--accept-licence", is_flag=True, help="Confirm that you have read and accept the game's licence.")
@click.option("--allow-installer", is_flag=True, help="Allow a loader's own installer program to run.")
@click.option(
    "--for", "rented", metavar="REMOTE", help="Keep to the limits of this rented server: runtime, memory, ports."
)
@click.option(
    "--first-start",
    type=click.Choice(["bare", "content"]),
    help="Make the first start without content or with it; by default as the game's definition says.",
)
@click.option(
    "--foreground", is_flag=True, help="Then start it and become its keeper; for containers and service managers."
)
@click.option("--start", "starts", is_flag=True, help="Then start it in the background and wait until it is ready.")
def provision(
    call: Call,
    source: Path,
    server: Server,
    catalogs: tuple[str, ...],
    name: str | None,
    game: str | None,
    runtime: str | None,
    memory_mib: int | None,
    ports: tuple[str, ...],
    settings: tuple[str, ...],
    secrets: tuple[str, ...],
    world: Path | None,
    accept_licence: bool,
    allow_installer: bool,
    rented: str | None,
    first_start: Literal["bare", "content"] | None,
    starts: bool,
    foreground: bool,
) -> Answer:
    """Make a server in FOLDER from SOURCE: a content list, a pack (folder or .rhz), a lock or a folder of archives.

    Solves, fetches and verifies; leaves out client-only content; allocates runtime, ports and memory; lays the files
    out in one transaction; starts the server once so that its own files hold your settings. Run it again after
    changing the list, with the server's name or its folder: worlds and your edits stay.
    """
    from rhizon.app.choose.runtimes import RuntimeWish
    from rhizon.app.provision import ProvisionWishes
    from rhizon.app.provision import provision as make

    program = Path(runtime) if runtime not in (None, FETCH) else None
    wishes = ProvisionWishes(
        source=source,
        folder=server.folder,
        name=name,
        game=game,
        catalogs=catalogs,
        runtime=RuntimeWish(program=program, fetch=runtime == FETCH),
        accept_licence=accept_licence,
        allow_installer=allow_installer,
        memory_mib=memory_mib,
        ports=port_numbers(ports),
        settings=dict(pairs(settings, "--set")),
        secrets=secret_values(secrets),
        world=world,
        first_start=first_start,
        rented=rented,
        stop_first=call.stop_first,
        dry_run=call.dry_run,
        ask_secret=ask_secret if call.asks else None,
    )
    reporter = call.log_reporter(log=call.out.verbose)
    made = make(call.host, wishes, reporter, ask_on_terminal(reporter) if call.asks else None)
    call.close()
    if made.state == "prepared":
        raise licence_pending(made, accept_licence=("--accept-licence",))
    planned = made.state == "planned"
    if foreground and not planned:
        become_keeper(call, Path(made.folder))
    if starts and not planned:
        return _with_start(call, made, lambda to: _body(to, made, call, generated_names(secrets)))
    return Answer(
        made,
        f"{made.name} ({made.title}): {'plan for' if planned else 'ready to run in'} {made.folder}",
        lambda to: _body(to, made, call, generated_names(secrets)),
        made.findings,
        (Step(("rhizon", "run", made.name), "start it"), Step(("rhizon", "check", made.name), "check it")),
    )


def _with_start(call: Call, made: "ProvisionResult", body: "Callable[[Console], None]") -> Answer:
    """The same, and then the server is started: players can join when this ends."""
    import msgspec

    from rhizon.app.run.start import start
    from rhizon.cli.terminal import stop_signals

    with stop_signals() as asked:
        done = start(call.host, Path(made.folder), call.reporter, asked)
    call.close()
    where = ", ".join(done.addresses)

    def whole(to: "Console") -> None:
        body(to)
        say(to, f"players join at {where}")

    return Answer(
        msgspec.structs.replace(made, ready_seconds=done.ready_seconds),
        f"{made.name} ({made.title}): ready after {done.ready_seconds or 0:.1f} s in {made.folder}",
        whole,
        (*made.findings, *done.findings),
        (Step(("rhizon", "console", made.name), "type commands"), Step(("rhizon", "stop", made.name), "stop it")),
    )


def _body(to: "Console", made: "ProvisionResult", call: Call, generated: tuple[str, ...]) -> None:
    """What the server is made of, and what was done to files."""
    planned, verbose = made.state == "planned", call.out.verbose
    where = made.lock.target.words_for(made.game_title)
    if made.runtime is not None:
        where += f", {made.runtime.family} {made.runtime.version} ({made.runtime.program})"
    say(to, where)
    if made.runtime_why and (verbose or planned):
        for line in made.runtime_why:
            say(to, f"  because {line}")
    if made.changes is not None:
        show_changes(to, made.changes, call)
    if verbose or planned:
        show_plan(to, made.steps, call, whole=verbose or made.changes is None)
        show_diffs(to, made.diffs)
    show_counts(to, made.steps, planned=planned)
    show_folder_files(to, made.folder_files, call)
    for one in made.left_out if not made.folder_files else ():
        say(to, f"left out: {one.id} {one.version} is client-only")
    for gone in made.lock.dropped if not made.folder_files else ():
        say(to, f"dropped: {gone.id} is optional; {gone.reason}")
    say(to, f"memory: {made.memory_words}")
    say(to, f"ports: {', '.join(made.port_words)}")
    say(to, f"world: {made.world}" + (f"; backup {made.backup}" if made.backup else ""))
    for name in generated:
        say(to, f"{name}: generated; to see it: rhizon settings {made.name} --reveal")

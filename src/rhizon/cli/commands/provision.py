"""``rhizon provision``."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.changes import show_changes, show_counts, show_diffs, show_plan
from rhizon.cli.licence import ask_on_terminal, licence_pending
from rhizon.cli.options import MIB, ask_secret, catalog_options, pairs, port_numbers, secret_options, secret_values
from rhizon.cli.output import Output, common, next_steps, say, show_findings, verdict

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.provision import ProvisionResult

__all__ = ["command"]


@click.command("provision")
@click.argument("source", type=click.Path(path_type=Path))
@click.argument("folder", type=click.Path(path_type=Path))
@catalog_options
@click.option("--game", metavar="ID", help="The game of a folder of archives, where it is not plain from them.")
@click.option("--runtime", type=click.Path(path_type=Path), metavar="PROGRAM", help="This runtime and no other.")
@click.option("--fetch-runtime", is_flag=True, help="Get a runtime that is missing, into Rhizon's own folder.")
@click.option("--note", help="A line to find it again by among twenty.")
@click.option("--accept-licence", is_flag=True, help="You have read the game's licence and accept it.")
@click.option("--allow-installer", is_flag=True, help="A loader's own installer program may be run.")
@click.option("--memory", "memory_mib", type=MIB, metavar="MIB", help="Heap: MiB, or such as 1536M, 2G.")
@click.option("--port", "ports", multiple=True, metavar="ROLE=N", help="A fixed port number for a role.")
@click.option("--set", "settings", multiple=True, metavar="NAME=VALUE", help="A setting, by our name for it.")
@secret_options
@click.option("--world", type=click.Path(path_type=Path), metavar="FOLDER", help="A world to take over: it is copied.")
@click.option("--stop-first", is_flag=True, help="Stop the server if it runs there.")
@click.option("--dry-run", is_flag=True, help="Show the plan and change nothing in the folder.")
@common
def command(
    source: Path,
    folder: Path,
    catalogs: tuple[str, ...],
    game: str | None,
    runtime: Path | None,
    fetch_runtime: bool,
    note: str | None,
    accept_licence: bool,
    allow_installer: bool,
    memory_mib: int | None,
    ports: tuple[str, ...],
    settings: tuple[str, ...],
    secrets: tuple[str, ...],
    generated: tuple[str, ...],
    world: Path | None,
    stop_first: bool,
    offline: bool,
    dry_run: bool,
    out: Output,
) -> None:
    """Make a server in FOLDER from SOURCE: a content list, a pack (folder or .rhz), a lock or a folder of archives.

    Solves, fetches, verifies, leaves out what is for players only, takes a runtime, ports and memory, lays the
    files out in one transaction, and starts the bare server once so that its own files hold your settings.
    Run it again after changing the list: worlds and your edits stay.
    """
    from rhizon.app.choose.runtimes import RuntimeWish
    from rhizon.app.host import this_host
    from rhizon.app.provision import ProvisionWishes, provision
    from rhizon.cli.progress import ConsoleReporter

    asks = sys.stdin.isatty() and sys.stderr.isatty() and not out.json
    wishes = ProvisionWishes(
        source=source,
        folder=folder,
        game=game,
        catalogs=catalogs,
        runtime=RuntimeWish(program=runtime, fetch=fetch_runtime),
        note=note,
        accept_licence=accept_licence,
        allow_installer=allow_installer,
        memory_mib=memory_mib,
        ports=port_numbers(ports),
        settings=dict(pairs(settings, "--set")),
        secrets=secret_values(secrets, generated),
        world=world,
        stop_first=stop_first,
        dry_run=dry_run,
        ask_secret=ask_secret if asks else None,
    )
    reporter = ConsoleReporter(out, lines=out.verbose)

    try:
        made = provision(this_host(offline=offline), wishes, reporter, ask_on_terminal(reporter) if asks else None)
    finally:
        reporter.close()
    if made.state == "prepared":
        raise licence_pending(made)
    out.result(made, lambda to: _render(to, made, folder, out, generated), made.findings)


def _render(to: "Console", made: "ProvisionResult", folder: Path, out: Output, drawn: tuple[str, ...]) -> None:
    target = made.lock.target
    planned = made.state == "planned"
    verdict(to, f"{made.title}: {'this is what would be done in' if planned else 'ready to run in'} {folder}")
    where = target.words
    if made.runtime is not None:
        where += f", {made.runtime.family} {made.runtime.version} ({made.runtime.program})"
    say(to, where)
    if made.runtime_why and (out.verbose or planned):
        for line in made.runtime_why:
            say(to, f"  because {line}")
    if made.changes is not None:
        show_changes(to, made.changes)
    if out.verbose or planned:
        show_plan(to, made.steps, whole=out.verbose or made.changes is None)
        show_diffs(to, made.diffs)
    show_counts(to, made.steps, planned=planned)
    for one in made.left_out:
        say(to, f"left out: {one.id} {one.version} is for players only")
    for gone in made.lock.dropped:
        say(to, f"dropped: {gone.id} is optional, and {gone.reason}")
    say(to, f"memory: {made.memory_words}")
    say(to, f"ports: {', '.join(made.port_words)}")
    say(to, f"world: {made.world}" + (f"; backup {made.backup}" if made.backup else ""))
    for name in drawn:
        say(to, f"{name}: a new one; rhizon settings {folder} --reveal shows it")
    show_findings(to, made.findings)
    if not planned:
        run, look = ("rhizon", "run", str(folder)), ("rhizon", "check", str(folder))
        next_steps(to, [(run, "start it"), (look, "look it over")])
    else:
        say(to, "Nothing was changed. The same command without --dry-run does it.")

"""``rhizon provision``."""

import collections
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, next_steps, say, show_findings, show_table, verdict
from rhizon.core.errors import InputError, StateError
from rhizon.core.units import mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.provision import LicenceText, Provisioned

__all__ = ["command"]


def _pairs(values: tuple[str, ...], option: str) -> dict[str, str]:
    pairs = {}
    for value in values:
        name, equals, rest = value.partition("=")
        if not equals or not name:
            raise click.UsageError(f"{option} takes NAME=VALUE, not {value!r}.")
        pairs[name] = rest
    return pairs


@click.command("provision")
@click.argument("source", type=click.Path(path_type=Path))
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--catalog", "catalogs", multiple=True, metavar="ADDRESS", help="A catalog: http(s) address or folder.")
@click.option("--game", metavar="ID", help="The game of a folder of archives, where it is not plain from them.")
@click.option("--runtime", type=click.Path(path_type=Path), metavar="PROGRAM", help="This runtime and no other.")
@click.option("--fetch-runtime", is_flag=True, help="Get a runtime that is missing, into Rhizon's own folder.")
@click.option("--note", help="A line to find it again by among twenty.")
@click.option("--accept-licence", is_flag=True, help="You have read the game's licence and accept it.")
@click.option("--allow-installer", is_flag=True, help="A loader's own installer program may be run.")
@click.option("--memory", "memory_mib", type=click.IntRange(16, 1 << 22), metavar="MIB", help="Heap, in MiB.")
@click.option("--port", "ports", multiple=True, metavar="ROLE=N", help="A fixed port number for a role.")
@click.option("--set", "settings", multiple=True, metavar="NAME=VALUE", help="A setting, by our name for it.")
@click.option("--secret", "secrets", multiple=True, metavar="NAME=FILE", help="A secret setting, read from a file.")
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
    dry_run: bool,
    out: Output,
) -> None:
    """Make a server in FOLDER from SOURCE: a content list, a pack (folder or .rhz), a lock or a folder of archives.

    Solves, fetches, verifies, leaves out what is for players only, takes a runtime, ports and memory, lays the
    files out in one transaction, and starts the bare server once so that its own files hold your settings.
    Run it again after changing the list: worlds and your edits stay.
    """
    from rhizon.app.context import this_host
    from rhizon.app.provision import ProvisionWishes, provision
    from rhizon.app.runtimes import RuntimeWish
    from rhizon.cli.progress import ConsoleReporter

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
        ports={role: _port(role, number) for role, number in _pairs(ports, "--port").items()},
        settings=dict(_pairs(settings, "--set")),
        secrets={name: _secret(Path(file)) for name, file in _pairs(secrets, "--secret").items()},
        dry_run=dry_run,
    )
    reporter = ConsoleReporter(out, lines=out.verbose)
    asks = sys.stdin.isatty() and sys.stderr.isatty() and not out.json

    def ask(licence: "LicenceText") -> bool:
        reporter.end()
        return _ask(licence)

    try:
        made = provision(this_host(), wishes, reporter, ask if asks else None)
    finally:
        reporter.close()
    if made.state == "prepared":
        raise StateError(
            "licence-pending",
            f"{made.folder} is prepared, and the licence has to be accepted before the first start",
            details=[f"its text: {made.licence_text}"],
            hint="Read it, then run the same command with --accept-licence.",
        )
    out.result(made, lambda to: _render(to, made, folder, out), made.findings)


def _port(role: str, text: str) -> int:
    if not text.isdecimal() or not 1 <= int(text) <= 65535:
        raise click.UsageError(f"--port {role} takes a number from 1 to 65535, not {text!r}.")
    return int(text)


def _secret(file: Path) -> str:
    try:
        text = file.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as broken:
        raise InputError(
            "unreadable", f"the secret in {file} cannot be read: {broken}", hint="Check the path and its mode."
        ) from None
    return text.rstrip("\r\n")


def _ask(licence: "LicenceText") -> bool:
    click.echo(f"\nThe licence of {licence.game} lies in {licence.path}", err=True)
    from rhizon.core.names import plain

    for line in licence.text.splitlines()[:40]:
        click.echo(f"  | {plain(line)}", err=True)
    return click.confirm("Have you read it, and do you accept it?", default=False, err=True)


def _render(to: "Console", made: "Provisioned", folder: Path, out: Output) -> None:
    target = made.lock.target
    planned = made.state == "planned"
    verdict(to, f"{made.title}: {'this is what would be done in' if planned else 'ready to run in'} {folder}")
    where = f"{target.game} {target.game_version}, {target.loader} {target.loader_build}"
    if made.runtime is not None:
        where += f", {made.runtime.family} {made.runtime.version} ({made.runtime.program})"
    say(to, where)
    if made.runtime_why and (out.verbose or planned):
        for line in made.runtime_why:
            say(to, f"  because {line}")
    changes = [one for one in made.steps if out.verbose or planned or one.action in ("replace", "remove")]
    if changes:
        show_table(to, ("", "file", "why"), [(one.action, one.path, one.reason) for one in changes])
    done = {"place": "placed", "replace": "replaced", "remove": "removed", "keep": "kept"}
    counts = collections.Counter(str(step.action) for step in made.steps)
    words = [
        f"{counts[action]} {'to ' + action if planned else word}" for action, word in done.items() if counts[action]
    ]
    say(to, "files: " + ", ".join(words))
    for one in made.left_out:
        say(to, f"left out: {one.id} {one.version} is for players only")
    for gone in made.lock.dropped:
        say(to, f"dropped: {gone.id} is optional, and {gone.reason}")
    budget = made.budget
    say(
        to,
        f"memory: {mib_text(made.heap_mib)} of heap (game {budget.base_mib}, players {budget.players_mib}, "
        f"content {budget.content_mib}, world {budget.settings_mib}) and {budget.outside_heap_mib} beside it",
    )
    say(to, "ports: " + ", ".join(f"{role} {number}" for role, number in made.ports.items()))
    say(to, f"world: {made.world}")
    show_findings(to, made.findings)
    if not planned:
        run, look = ("rhizon", "run", str(folder)), ("rhizon", "check", str(folder))
        next_steps(to, [(run, "start it"), (look, "look it over")])
    else:
        say(to, "Nothing was changed. The same command without --dry-run does it.")

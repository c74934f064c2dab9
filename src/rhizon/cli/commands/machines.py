"""``rhizon machines`` and its subcommands."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, RhizonGroup, command
from rhizon.cli.options import output_option
from rhizon.cli.output import Step, say
from rhizon.core.units import counted, mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.machines.outcome import ApplyResult, EachResult, MachinesStatus
    from rhizon.app.machines.plan import MachinesPlan

__all__ = ["machines"]

MOST_SHOWN = 20  # moves in the text; --verbose shows all

_file = click.argument("file", metavar="FILE", type=click.Path(path_type=Path))


@click.group("machines", cls=RhizonGroup)
def machines() -> None:
    """Place servers on several machines, and run Rhizon on all of them (Ansible, Kubernetes)."""


@command(
    "plan",
    group=machines,
    examples=(
        ("rhizon machines plan club.machines.toml", "which server goes to which machine"),
        ("rhizon machines plan club.machines.toml --write", "and write it into the file"),
        ("rhizon machines plan club.machines.toml -o loads.png", "a picture of the loads"),
    ),
    tables=True,
    verbose="every move",
    dry_run="With --write or --output: write nothing.",
)
@_file
@click.option("--write", is_flag=True, help="Write each server's machine into FILE; comments stay.")
@click.option(
    "--seconds", type=click.FloatRange(1, 3600), metavar="N", help="Longest search; by default 45, of many servers 85."
)
@output_option("Draw the loads into FILE (PNG, SVG or PDF, by its ending).")
def plan(call: Call, file: Path, write: bool, seconds: float | None, output: Path | None) -> Answer:
    """Decide which server is to be on which machine: never over memory, cores, disk or ports; spread or packed,
    together or apart as FILE says, with as few moves as it allows. Exit code 3, with what clashes, where there is no
    such placement.
    """
    from rhizon.app.machines.plan import plan_machines

    made = plan_machines(
        file, call.reporter, seconds=seconds, write=write and not call.dry_run, plot=None if call.dry_run else output
    )
    call.close()
    step = (
        Step(("rhizon", "machines", "apply", str(file)), "do it")
        if made.written or not made.moves
        else Step(("rhizon", "machines", "plan", str(file), "--write"), "write it into the file")
    )
    return Answer(made, f"{made.name}: {_verdict(made)}", lambda to: _plan(to, made, call), next=(step,))


def _verdict(made: "MachinesPlan") -> str:
    new = sum(move.from_machine is None for move in made.moves)
    parts = [counted(made.moved, "move")]
    if new:
        parts.append(f"{counted(new, 'new server')}")
    parts.append(f"{counted(made.used, 'machine')} in use")
    parts.append(f"highest load {made.load} %")
    return ", ".join(parts) + (", proved best" if made.proved else ", not proved best")


def _plan(to: "Console", made: "MachinesPlan", call: Call) -> None:
    rows = [
        (
            one.machine,
            str(len(one.servers)),
            mib_text(one.memory_mib),
            mib_text(one.memory_of_mib),
            f"{one.percent} %",
            f"{one.cores:g}" + ("" if one.cores_of is None else f" of {one.cores_of:g}"),
            f"{one.ports}" + ("" if one.ports_of is None else f" of {one.ports_of}"),
        )
        for one in made.machines
    ]
    columns = ("machine", "servers", "memory", "of", "load", "cores", "ports")
    call.table(to, columns, rows, right=("servers", "memory", "of", "load"))
    if made.moves:
        to.print()
        shown = made.moves if call.out.verbose else made.moves[:MOST_SHOWN]
        call.table(to, ("server", "from", "to"), [(m.server, m.from_machine or "new", m.to_machine) for m in shown])
        if len(shown) < len(made.moves):
            say(to, f"and {len(made.moves) - len(shown)} more (--verbose shows all)")
    if not made.proved:
        to.print()
        what = f"{made.used_bound} machines" if made.arrange == "pack" else f"a highest load of {made.load_bound} %"
        say(to, f"no plan can be better than {counted(made.moved_bound, 'move')} and {what}")
    if made.plot is not None:
        say(to, f"drawn in {made.plot}")


@command(
    "apply",
    group=machines,
    examples=(
        ("rhizon machines apply club.machines.toml --dry-run", "what would be done"),
        ("rhizon machines apply club.machines.toml", "make, update, move and start servers"),
    ),
    tables=True,
    dry_run="Show what would be done and change nothing.",
)
@_file
@click.option("--only", multiple=True, metavar="SERVER", help="Only this server. May be repeated.")
@click.option(
    "--wheels", type=click.Path(path_type=Path, exists=True, file_okay=False), metavar="FOLDER",
    help="Also install Rhizon there, from packages in FOLDER (pip wheel -w FOLDER rhizon).",
)  # fmt: skip
@click.option(
    "--keep", type=click.Path(path_type=Path, file_okay=False), metavar="FOLDER",
    help="Write the playbook (or the manifests) to FOLDER, and leave it there.",
)  # fmt: skip
def apply(call: Call, file: Path, only: tuple[str, ...], wheels: Path | None, keep: Path | None) -> Answer:
    """Bring every server to its machine, as FILE says: make what is new, update what is there, move what is elsewhere
    (with its worlds, and a backup), start all. The same again changes nothing.

    A server that may be on a machine that is down is left alone. Exit code 1 where not all could be done; run it again
    once the machine is back.
    """
    from rhizon.app.machines.apply import apply_machines

    done = apply_machines(call.host, file, call.reporter, only=only, wheels=wheels, keep=keep, dry_run=call.dry_run)
    call.close()
    states = [one.state for one in done.servers]
    counts = [(state, states.count(state)) for state in ("planned", "changed", "moved", "unchanged", "held", "failed")]
    text = ", ".join(f"{count} {state}" for state, count in counts if count) or "no servers"
    if done.down:
        text += f"; not reached: {', '.join(done.down)}"
    complete = done.complete or done.planned
    return Answer(
        done,
        f"{done.name}: {text}",
        lambda to: _applied(to, done, call),
        done.findings,
        (Step(("rhizon", "machines", "status", str(file)), "how they are"),),
        exit_code=0 if complete else 1,
        good=complete,
    )


def _applied(to: "Console", done: "ApplyResult", call: Call) -> None:
    rows = [(one.server, one.machine, one.state, one.why) for one in done.servers]
    call.table(to, ("server", "machine", "state", "why"), rows, prose=("why",))
    for name, why in done.down.items():
        say(to, f"{name} was not reached: {why}")


@command(
    "status",
    group=machines,
    examples=(("rhizon machines status club.machines.toml", "every machine, every server, and what is not right"),),
    tables=True,
)
@_file
def status(call: Call, file: Path) -> Answer:
    """Show how all machines and their servers are. Exit code 1 where a machine was not reached, or a server is not
    ready on its machine."""
    from rhizon.app.machines.status import machines_status

    found = machines_status(call.host, file, call.reporter)
    call.close()
    right = sum(one.right for one in found.servers)
    reached = sum(one.reached for one in found.machines)
    good = right == len(found.servers) and reached == len(found.machines)
    text = f"{right} of {counted(len(found.servers), 'server')} ready on their machines"
    text += f", {reached} of {counted(len(found.machines), 'machine')} reached"
    return Answer(
        found, f"{found.name}: {text}", lambda to: _status(to, found, call), exit_code=0 if good else 1, good=good
    )  # fmt: skip


def _status(to: "Console", found: "MachinesStatus", call: Call) -> None:
    rows = [
        (one.machine, "reached" if one.reached else "not reached", str(one.servers), str(one.running), one.why)
        for one in found.machines
    ]
    call.table(
        to, ("machine", "state", "servers", "running", "why"), rows, right=("servers", "running"), prose=("why",)
    )
    if found.servers:
        to.print()
        lines = [
            (one.server, one.machine or "-", one.found_on or "-", one.state, "" if one.right else "not as planned")
            for one in found.servers
        ]
        call.table(to, ("server", "planned on", "found on", "state", ""), lines)


@command(
    "each",
    group=machines,
    examples=(
        ("rhizon machines each club.machines.toml -- check --all", "one command on every machine"),
        ("rhizon machines each club.machines.toml --on ssd -- host", "on those with a label"),
    ),
)
@_file
@click.option("--on", multiple=True, metavar="MACHINE|LABEL", help="Only there. May be repeated.")
@click.argument("words", metavar="COMMAND...", nargs=-1, required=True)
def each(call: Call, file: Path, on: tuple[str, ...], words: tuple[str, ...]) -> Answer:
    """Run one command of Rhizon on every machine. In a cluster it runs in every server's container; {} is replaced by
    the server's folder. Exit code 1 if one fails or was not reached."""
    from rhizon.app.machines.status import machines_each

    done = machines_each(file, words, on, call.reporter)
    call.close()
    well = sum(one.code == 0 for one in done.answers)
    good = well == len(done.answers)
    return Answer(
        done,
        f"{done.name}: {well} of {len(done.answers)} ended well",
        lambda to: _answers(to, done),
        exit_code=0 if good else 1,
        good=good,
    )


def _answers(to: "Console", done: "EachResult") -> None:
    from rhizon.core.names import printable

    for one in done.answers:
        to.print()
        say(to, f"{one.machine}: " + ("not reached" if one.code is None else f"exit code {one.code}"))
        for line in (one.out.strip() or one.errors.strip()).splitlines():
            say(to, f"  {printable(line, 300)}")

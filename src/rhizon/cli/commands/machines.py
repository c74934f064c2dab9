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

    from rhizon.app.machines.plan import MachinesPlan

__all__ = ["machines"]

MOST_SHOWN = 20  # moves in the text; --verbose shows all

_file = click.argument("file", metavar="FILE", type=click.Path(path_type=Path, exists=True, dir_okay=False))


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

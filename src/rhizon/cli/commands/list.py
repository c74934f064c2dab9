"""``rhizon list``."""

import click

from rhizon.cli.output import Output, common, mib, show_table, verdict

__all__ = ["command"]


@click.command("list")
@common
def command(out: Output) -> None:
    """The servers of this machine: where, which game, running or not, memory, ports, your note."""
    from rhizon.app.context import this_host
    from rhizon.app.listing import list_instances

    found = list_instances(this_host())

    def render(to: object) -> None:
        if not found:
            verdict(to, "no server was provisioned on this machine yet")  # type: ignore[arg-type]
            return
        up = sum(one.state == "running" for one in found)
        verdict(to, f"{len(found)} servers, {up} running, {mib(sum(one.memory_mib for one in found))} granted")  # type: ignore[arg-type]
        show_table(
            to,  # type: ignore[arg-type]
            ("name", "game", "state", "memory", "ports", "folder", "note"),
            [
                (
                    one.name,
                    one.game,
                    one.state,
                    mib(one.memory_mib),
                    " ".join(f"{role} {number}" for role, number in one.ports.items()),
                    one.folder,
                    one.note,
                )
                for one in found
            ],
            right=("memory",),
        )

    out.result(found, render)

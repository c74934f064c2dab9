"""``rhizon bom``."""

import json
from pathlib import Path

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.options import output_option
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted

__all__ = ["bom"]


@command(
    "bom",
    examples=(
        ("rhizon bom marsh", "print the bill of materials"),
        ("rhizon bom marsh --output marsh.cdx.json", "write it to a file"),
    ),
    dry_run="With --output: write nothing.",
)
@click.argument("server", type=SERVER)
@output_option("Write the bill of materials to FILE.")
def bom(call: Call, server: Server, output: Path | None) -> Answer | None:
    """Make a bill of materials of a server in the open format CycloneDX: printed, or written to a file.

    Needs the extra: pip install 'rhizon[bom]'.
    """
    from rhizon.app.keep.export import export_bom

    made = export_bom(call.host, server.folder, output, write=not call.dry_run)
    if output is None and not call.out.json and not call.out.quiet:
        click.echo(json.dumps(made.bill, indent=2))
        return None
    verb = "would be written" if call.dry_run else "written"
    return Answer(made, f"{made.name}: {counted(made.components, 'component')} {verb} to {made.file}")

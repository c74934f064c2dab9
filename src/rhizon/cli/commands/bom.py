"""``rhizon bom``."""

from pathlib import Path

import click

from rhizon.cli.output import Output, common, verdict

__all__ = ["command"]


@click.command("bom")
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--export", type=click.Path(path_type=Path), metavar="FILE", help="Write it there.")
@common
def command(folder: Path, export: Path | None, out: Output) -> None:
    """A bill of materials of the server in FOLDER, in the open format CycloneDX: printed, or written to a file."""
    import json

    from rhizon.app.keep.export import export_bom

    data = export_bom(folder, export)
    if export is None and not out.json and not out.quiet:
        click.echo(data.decode(), nl=False)
        return
    bill = json.loads(data)
    out.result(bill, lambda to: verdict(to, f"{len(bill['components'])} components written to {export}"))

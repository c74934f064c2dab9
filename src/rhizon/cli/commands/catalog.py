"""``rhizon catalog build`` and ``rhizon catalog serve``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, next_steps, say, show_findings, verdict

if TYPE_CHECKING:
    from rich.console import Console

__all__ = ["command"]


@click.group("catalog")
def command() -> None:
    """Make a catalog from archives, or serve one over HTTP."""


@command.command("build")
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--dry-run", is_flag=True, help="Say which documents would change and write none.")
@common
def build(folder: Path, dry_run: bool, out: Output) -> int:
    """Make FOLDER a catalog: read its archives and shelf.toml, write catalog.json and what it names.

    What archives say of themselves can be corrected by ARCHIVE.facts.toml beside them. Exit code 1 when an
    archive could not be used.
    """
    from rhizon.app.host import this_host
    from rhizon.app.publish.build_catalog import build_catalog
    from rhizon.cli.progress import ConsoleReporter

    reporter = ConsoleReporter(out, results=False)
    try:
        built = build_catalog(this_host(), folder, reporter, write=not dry_run)
    finally:
        reporter.close()
    changed = "would change" if dry_run else "changed"
    bad = any(one.severity == "error" for one in built.findings)

    def render(to: "Console") -> None:
        verdict(
            to,
            f"{built.name}: {built.releases} releases of {built.items} items, {built.builds} loader builds, "
            f"{built.servers} server versions; {len(built.written)} documents {changed}",
            good=not bad,
        )
        if out.verbose:
            for name in built.written:
                say(to, f"  {name}")
        show_findings(to, built.findings)
        next_steps(to, [(("rhizon", "catalog", "serve", str(folder)), "offer it over HTTP; any web server will do")])

    out.result(built, render, built.findings)
    return 1 if bad else 0


@command.command("serve")
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--port", type=click.IntRange(0, 65535), default=0, help="0, the default, takes a free one.")
@click.option("--address", default="127.0.0.1", show_default=True, help="The address to listen on.")
@common
def serve(folder: Path, port: int, address: str, out: Output) -> None:
    """Serve the catalog in FOLDER until Ctrl-C."""
    from rhizon.app.publish.serve import serve_until
    from rhizon.cli.output import show_json
    from rhizon.cli.terminal import stop_signals

    def ready(url: str) -> None:
        if out.json:
            show_json({"ok": True, "result": {"url": url}})
        else:
            click.echo(f"serving {folder} at {url} (Ctrl-C ends it)")

    def told(line: str) -> None:
        if out.verbose:
            click.echo(line, err=True)

    with stop_signals() as asked:
        serve_until(folder, address, port, asked, ready, told)

"""``rhizon check``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, show_findings, verdict

if TYPE_CHECKING:
    from rich.console import Console

__all__ = ["command"]


@click.command("check")
@click.argument("folder", type=click.Path(path_type=Path))
@common
def command(folder: Path, out: Output) -> int:
    """Look over the server in FOLDER: runtime, licence, every file, settings, ports, memory.

    Changes nothing. Exit code 1 when something is wrong.
    """
    from rhizon.app.host import this_host
    from rhizon.app.keep.check import check

    seen = check(this_host(), folder)
    errors = sum(one.severity == "error" for one in seen.findings)
    others = len(seen.findings) - errors
    text = f"{seen.name} ({seen.game}): "
    text += f"{errors} things are wrong" if errors > 1 else "one thing is wrong" if errors else "nothing is wrong"
    text += f", {others} to know" if others else ""
    text += f"; {seen.files} files looked at"
    text += f"; it is running (process {seen.running})" if seen.running else ""

    def render(to: "Console") -> None:
        verdict(to, text, good=seen.sound)
        show_findings(to, seen.findings)

    out.result(seen, render, seen.findings)
    return 0 if seen.sound else 1

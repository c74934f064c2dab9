"""``rhizon run``."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, show_findings, verdict

if TYPE_CHECKING:
    from rich.console import Console as RichConsole

__all__ = ["command"]


@click.command("run")
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--trial", is_flag=True, help="Stop it again once it is ready: does it start at all?")
@click.option("--wait", type=click.FloatRange(1, 86400), metavar="SECONDS", help="How long it may take to be ready.")
@common
def command(folder: Path, trial: bool, wait: float | None, out: Output) -> int:
    """Start the server in FOLDER and stay with it.

    What it prints is shown; what you type goes to its console. Ctrl-C (or SIGTERM) stops it cleanly, a third
    one ends it at once. Exit code 6 when it does not become ready, with the reason and the
    content at fault; 1 when it was ready and did not end cleanly.
    """
    from rhizon.app.host import this_host
    from rhizon.app.run.run import Moment, run
    from rhizon.app.run.server import RunningServer
    from rhizon.cli.progress import ConsoleReporter
    from rhizon.cli.terminal import Console, stop_signals

    reporter = ConsoleReporter(out, lines=not out.json or out.verbose)
    typed = Console()
    asks = sys.stdin.isatty() and sys.stderr.isatty() and not out.json
    with stop_signals() as asked:

        def tick(server: RunningServer) -> Moment:
            if trial:
                return "stop"
            line = typed.line()
            if line is not None:
                server.process.send(line)
            return "go on"

        def ask_move(offer: str) -> bool:
            reporter.end()
            click.echo(f"{offer}. Move the server there? [y/N] ", err=True, nl=False)
            return (typed.wait(asked) or "").strip().lower() in ("y", "yes")

        try:
            ran = run(this_host(), folder, reporter, asked, tick, wait=wait, ask_move=ask_move if asks else None)
        finally:
            reporter.close()
    clean = ran.exit_code == 0
    text = f"{ran.name} was ready after {ran.ready_seconds:.1f} s with {len(ran.content)} pieces of content, "
    text += f"was up for {ran.up_seconds:.0f} s and "
    text += "stopped cleanly" if clean else f"ended with exit code {ran.exit_code}; its log: {ran.log}"

    def render(to: "RichConsole") -> None:
        verdict(to, text, good=clean)
        show_findings(to, ran.findings)

    out.result(ran, render, ran.findings)
    return 0 if clean else 1

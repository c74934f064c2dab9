"""``rhizon completion``."""

import click
from click.shell_completion import get_completion_class

from rhizon.cli.output import Output, common

__all__ = ["command"]


@click.command("completion")
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
@common
def command(shell: str, out: Output) -> None:
    """Print what makes SHELL complete rhizon's commands and options; add it to your shell's start-up file."""
    from rhizon.cli.main import root

    kind = get_completion_class(shell)
    assert kind is not None
    text = kind(root, {}, "rhizon", "_RHIZON_COMPLETE").source()
    out.result({"script": text}, lambda _to: click.echo(text))

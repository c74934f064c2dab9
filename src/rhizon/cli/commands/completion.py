"""``rhizon completion``."""

import click
from click.shell_completion import get_completion_class

from rhizon.cli.command import Answer, Call, command

__all__ = ["completion"]


@command(
    "completion",
    examples=(
        ("rhizon completion bash >> ~/.bashrc", "complete commands, options, servers, settings and backups"),
        ("rhizon completion fish > ~/.config/fish/completions/rhizon.fish", "for fish"),
    ),
)
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def completion(call: Call, shell: str) -> Answer | None:
    """Print the lines that make SHELL complete rhizon's commands, options and names."""
    from rhizon.cli.main import root

    kind = get_completion_class(shell)
    assert kind is not None
    text = kind(root, {}, "rhizon", "_RHIZON_COMPLETE").source()
    if not call.out.json and not call.out.quiet:
        click.echo(text)
        return None
    return Answer({"script": text})

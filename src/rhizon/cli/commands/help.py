"""``rhizon help``."""

import click
from click.shell_completion import CompletionItem

from rhizon.cli.command import Answer, Call, command

__all__ = ["help_"]


def _complete(_ctx: click.Context, _param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    from rhizon.app.guides import list_guides

    return [CompletionItem(one.name, help=one.title) for one in list_guides() if one.name.startswith(incomplete)]


@command(
    "help",
    examples=(
        ("rhizon help", "the guides that there are"),
        ("rhizon help keeping", "what update, undo, backup and restore do to files and worlds"),
        ("rhizon help port-clash", "explain an error or a finding by its code"),
        ("rhizon help backup", "the same as rhizon backup --help"),
    ),
    tables=True,
)
@click.argument("topic", required=False, metavar="[TOPIC]", shell_complete=_complete)
def help_(call: Call, topic: str | None) -> Answer | None:
    """Print a guide, explain an error or a finding by its code, or show the help of a command."""
    from rhizon.app.guides import GuideList, find_guide, list_guides
    from rhizon.cli.commands import COMMANDS
    from rhizon.cli.main import root

    if topic is None:
        guides = list_guides()
        rows = [(one.name, one.title) for one in guides]
        return Answer(
            GuideList(guides=guides),
            f"{len(guides)} guides; print one: rhizon help TOPIC",
            lambda to: call.table(to, ("topic", "title"), rows, prose=("title",)),
        )
    if topic in COMMANDS and not call.out.json:
        found = root.get_command(click.Context(root), topic)
        assert found is not None
        parent = click.Context(root, info_name="rhizon")
        click.echo(found.get_help(click.Context(found, info_name=topic, parent=parent)))
        return None
    guide = find_guide(topic)
    return Answer(guide, "", lambda _to: click.echo(guide.text.rstrip("\n")))

"""Asking a person for a game's licence on a terminal."""

from typing import TYPE_CHECKING

import click

from rhizon.core.errors import StateError
from rhizon.core.names import plain

if TYPE_CHECKING:
    from rhizon.app.provision import AskLicence, LicenceText, ProvisionResult
    from rhizon.cli.progress import ConsoleReporter

__all__ = ["ask_on_terminal", "licence_pending"]


def ask_on_terminal(reporter: "ConsoleReporter") -> "AskLicence":
    """A question that shows the text first; no is the answer that Enter gives."""

    def asked(licence: "LicenceText") -> bool:
        reporter.end()
        click.echo(f"\nThe licence of {licence.game} lies in {licence.path}", err=True)
        for line in licence.text.splitlines()[:40]:
            click.echo(f"  | {plain(line)}", err=True)
        try:
            return click.confirm("Have you read it, and do you accept it?", default=False, err=True)
        except click.Abort:
            return False

    return asked


def licence_pending(made: "ProvisionResult") -> StateError:
    """Everything is in place but for a person's yes."""
    return StateError(
        "licence-pending",
        f"{made.folder} is prepared, and the licence has to be accepted before the first start",
        details=[f"its text: {made.licence_text}"],
        hint="Read it, then run the same command with --accept-licence.",
    )

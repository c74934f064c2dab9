"""Asking a person for a game's licence on a terminal."""

import sys
from typing import TYPE_CHECKING

import click

from rhizon.core.errors import StateError
from rhizon.core.names import printable
from rhizon.core.words import command_line

if TYPE_CHECKING:
    from rhizon.app.provision import AskLicence, LicenceText, ProvisionResult
    from rhizon.cli.progress import CommandReporter

__all__ = ["ask_on_terminal", "licence_pending"]


def ask_on_terminal(reporter: "CommandReporter") -> "AskLicence":
    """A question that shows the text first; no is the answer that Enter gives."""

    def asked(licence: "LicenceText") -> bool:
        reporter.end()
        click.echo(f"\nLicence of {licence.game}, in {licence.path}:", err=True)
        for line in licence.text.splitlines()[:40]:
            click.echo(f"  | {printable(line)}", err=True)
        try:
            return click.confirm("Have you read it, and do you accept it?", default=False, err=True)
        except click.Abort:
            return False

    return asked


def licence_pending(made: "ProvisionResult", *, accept_licence: tuple[str, ...]) -> StateError:
    """Everything is in place but for a person's yes; ``accept_licence`` is the option that says it."""
    again = command_line(*("rhizon", *sys.argv[1:], *accept_licence))
    return StateError(
        "licence-pending",
        f"{made.folder} is prepared; its licence must be accepted before the first start",
        details=[f"text of the licence: {made.licence_text}"],
        hint=f"Read it, then run: {again}",
    )

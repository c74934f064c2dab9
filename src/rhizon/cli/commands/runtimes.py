"""``rhizon runtimes``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, say, show_findings, show_table, verdict
from rhizon.core.finding import Finding

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.choose.runtimes import KnownRuntime

__all__ = ["command"]


@click.command("runtimes")
@common
def command(out: Output) -> None:
    """The language runtimes on this machine: which, where, how each was found, whether it answers, who uses it.

    Each is run once to hear what it says; that is remembered until its file changes.
    """
    from rhizon.app.choose.runtimes import list_runtimes
    from rhizon.app.host import this_host

    found = list_runtimes(this_host())
    findings = [
        Finding(
            code="runtime-answers-no-more",
            severity="info",
            subject=one.program,
            what=f"it looks like {one.family} and does not answer as one",
            remedy="Remove it, or mend it.",
        )
        for one in found
        if not one.answers
    ]
    out.result(found, lambda to: _render(to, found, findings), findings)


def _render(to: "Console", found: "list[KnownRuntime]", findings: list[Finding]) -> None:
    good = [one for one in found if one.answers]
    if not good:
        verdict(to, "no language runtime was found on this machine", good=False)
        say(to, "rhizon provision --fetch-runtime gets one when a server needs it.")
        return
    families = ", ".join(dict.fromkeys(f"{one.family} {one.major}" for one in good))
    verdict(to, f"{len(good)} runtime{'s' if len(good) != 1 else ''}: {families}")
    rows = [
        (one.family, str(one.major), one.version, one.vendor, one.how, one.program, ", ".join(one.used_by))
        for one in good
    ]
    show_table(to, ("family", "major", "version", "vendor", "found by", "program", "used by"), rows, right=("major",))
    show_findings(to, findings)

"""``rhizon runtimes``."""

from typing import TYPE_CHECKING

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import say
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.choose.runtimes import Runtimes

__all__ = ["runtimes"]


@command(
    "runtimes",
    examples=(("rhizon runtimes", "which Java or Mono is here, and which server uses it"),),
    tables=True,
)
def runtimes(call: Call) -> Answer:
    """List the language runtimes of this machine: family, version, how each was found, who uses it.

    Each is run once to ask for its version; the answer is kept until its file changes.
    """
    from rhizon.app.choose.runtimes import list_runtimes

    found = list_runtimes(call.host)
    good = [one for one in found.runtimes if one.answers]
    families = ", ".join(dict.fromkeys(f"{one.family} {one.major}" for one in good))
    return Answer(
        found,
        f"{counted(len(good), 'runtime')}: {families}" if good else "no language runtime found on this machine",
        lambda to: _body(to, found, call),
        found.findings,
        good=bool(good),
    )


def _body(to: "Console", found: "Runtimes", call: Call) -> None:
    rows = [
        (one.family, str(one.major), one.version, one.vendor, one.how, one.program, ", ".join(one.used_by))
        for one in found.runtimes
        if one.answers
    ]
    if not rows:
        say(to, "rhizon provision downloads one if a server needs it: add --runtime fetch.")
        return
    columns = ("family", "major", "version", "vendor", "found by", "program", "used by")
    call.table(to, columns, rows, right=("major",))

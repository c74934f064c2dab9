"""``rhizon check``."""

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.options import on_option
from rhizon.cli.servers import Server
from rhizon.core.finding import counts_text
from rhizon.core.units import counted

__all__ = ["check"]


@command(
    "check",
    examples=(
        ("rhizon check marsh", "runtime, licence, files, settings, ports and memory of one server"),
        ("rhizon check marsh --on lighthouse", "what is on a rented server: complete, unchanged, with its ports"),
        ("rhizon check --all --json", "every server of this machine, for a monitoring script"),
        ("rhizon check marsh --verbose", "with the code of each finding, to look it up: rhizon help CODE"),
    ),
    verbose="the code of each finding",
    tables=True,
    several=True,
)
@on_option
def check(call: Call, server: Server, on: str | None) -> Answer:
    """Check servers: runtime, licence, every placed file, settings, ports, memory.

    Changes nothing. Exit code 1 when a server has a problem.
    """
    if on is not None:
        return _there(call, server, on)
    from rhizon.app.keep.check import check as look

    seen = look(call.host, server.folder)
    text = f"{seen.name} ({seen.game_title}): {counts_text(seen.findings)}; {counted(seen.files, 'file')} checked"
    text += f"; running (process {seen.process})" if seen.process else ""
    shown = seen.findings
    if call.out.verbose:
        shown = tuple(one.with_code() for one in shown)
    return Answer(seen, text, None, shown, exit_code=0 if seen.sound else 1)


def _there(call: Call, server: Server, on: str) -> Answer:
    """What is on a rented server."""
    from rhizon.app.remote.check_there import check_there

    seen = check_there(call.host, server.folder, on, call.reporter)
    call.close()
    whole = "complete" if seen.complete else "not as it was sent"
    how = ", by their hashes" if seen.verified == "hash" else ""
    text = f"{seen.name} on {seen.remote}: {whole}; {counts_text(seen.findings)}; "
    text += f"{counted(seen.files, 'file')} checked{how}"
    shown = tuple(one.with_code() for one in seen.findings) if call.out.verbose else seen.findings
    return Answer(seen, text, None, shown, exit_code=0 if seen.sound else 1)

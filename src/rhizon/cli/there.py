"""How starting, stopping and asking a rented server is shown."""

from typing import TYPE_CHECKING

from rhizon.cli.command import Answer, Call
from rhizon.cli.output import Step, say
from rhizon.cli.servers import Server

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.remote.control_there import ControlThereResult, Verb

__all__ = ["controlled"]


def controlled(call: Call, server: Server, on: str, action: "Verb") -> Answer:
    """Does it, and says what was done."""
    from rhizon.app.remote.control_there import control_there

    done = control_there(call.host, server.folder, on, action, call.reporter)
    call.close()
    said = {"start": "started", "stop": "stopped", "status": done.state or "its state is not known"}[action]
    steps = (Step(("rhizon", "log", server.label, "--on", on), "what it printed"),) if action == "start" else ()
    return Answer(done, f"{done.name} on {done.remote}: {said}", lambda to: _body(to, done), next=steps)


def _body(to: "Console", done: "ControlThereResult") -> None:
    for line in done.output:
        say(to, f"  {line}")

"""``rhizon stop``."""

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.options import on_option
from rhizon.cli.output import Step
from rhizon.cli.servers import Server
from rhizon.cli.there import controlled

__all__ = ["stop"]


@command(
    "stop",
    examples=(
        ("rhizon stop marsh", "stop one server cleanly"),
        ("rhizon stop --all", "stop every server of this machine, before a restart of the machine"),
    ),
    tables=True,
    several=True,
)
@on_option
def stop(call: Call, server: Server, on: str | None) -> Answer:
    """Stop servers cleanly.

    Its keeper types the game's stop command, or sends the signal that the game knows; a server that does not stop in
    time is ended. One that crashed and waits to be started again stays down.
    """
    if on is not None:
        return controlled(call, server, on, "stop")
    from rhizon.app.run.stop import stop as ask

    done = ask(call.host, server.folder, call.reporter)
    call.close()
    text = f"{done.name}: {'stopped' if done.was_running else 'was not running'}"
    return Answer(done, text, next=(Step(("rhizon", "start", server.label), "start it"),))

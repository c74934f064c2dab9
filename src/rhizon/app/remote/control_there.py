"""Starting, stopping and asking a rented server: by the commands of its remote file, or by the Rhizon of that
machine."""

import json
import subprocess
from collections.abc import Sequence
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.remotes import open_runner
from rhizon.adapters.remotes.files import CommandResult
from rhizon.app.host import Host
from rhizon.app.instance.state import require_instance_state
from rhizon.app.remote.records import MARK, read_mark
from rhizon.app.remote.remotes import find_remote, with_tries
from rhizon.app.reporter import Reporter
from rhizon.core.errors import RemoteError, StateError
from rhizon.core.model.remote import Control, RemoteDefinition
from rhizon.core.names import printable
from rhizon.core.words import command_line

__all__ = ["ControlThereResult", "Verb", "control_there", "require_stopped_there", "rhizon_there"]

Verb = Literal["start", "stop", "status"]
LAST_LINES = 12
RHIZON_SECONDS = 600.0
STOPPED = ("not running", "stopped", "crashed", "crash-loop")


class ControlThereResult(msgspec.Struct, frozen=True, kw_only=True):
    """What was done there: the command, its exit code, the end of what it printed. ``state`` is what a machine with
    Rhizon says, or "running" and "not running" by the exit code of a status command; "" for other commands."""

    folder: str
    name: str
    remote: str
    action: Verb
    command: tuple[str, ...]
    code: int
    state: str
    output: tuple[str, ...]


def control_there(host: Host, folder: Path, word: str, action: Verb, reporter: Reporter) -> ControlThereResult:
    """Raises RemoteError (no answer, the command failed), :class:`StateError` (there is no command for that, or what is
    there is incomplete)."""
    state = require_instance_state(host, host.home(folder).required())
    _, remote = find_remote(host, word)
    command = _command(remote, action)
    if action == "start":
        _require_complete(host, remote, reporter)
    reporter.step(f"{action} on {remote.name}")
    seconds = remote.control.seconds if remote.control is not None else RHIZON_SECONDS
    if remote.control is not None and remote.control.here:
        done = _run_here(command, seconds)
    else:
        done = _run_there(host, remote, command, seconds)
    said = _lines(done)
    answer = _answer(done) if remote.reach.by == "rhizon" and remote.control is None else None
    if done.code and (action != "status" or answer is not None):
        raise RemoteError(
            "remote-command",
            f"{action} on {remote.name} failed (exit code {done.code})",
            details=[_message(answer)] if answer is not None else list(said),
            hint="Run the command by hand there to see more.",
        )
    result = answer.get("result") if answer is not None else None
    if isinstance(result, dict):
        where = result.get("now")
        shown = str(where.get("state", "")) if isinstance(where, dict) else ""
    else:
        shown = ("running" if done.code == 0 else "not running") if action == "status" else ""
    return ControlThereResult(
        folder=str(state.home.folder),
        name=state.instance.name,
        remote=remote.name,
        action=action,
        command=command,
        code=done.code,
        state=printable(shown, 40),
        output=said if answer is None else (),
    )


def require_stopped_there(host: Host, folder: Path, word: str, reporter: Reporter) -> None:
    """Where it can be asked. Raises :class:`StateError` for a server that runs."""
    _, remote = find_remote(host, word)
    asks = remote.control is not None and remote.control.status
    if not asks and (remote.reach.by != "rhizon" or remote.control is not None):
        return
    try:
        found = control_there(host, folder, word, "status", reporter)
    except RemoteError as wrong:
        if wrong.code == "remote-command":  # nothing is there yet that its Rhizon could speak of
            return
        raise
    if found.state not in STOPPED:
        raise StateError(
            "remote-running",
            f"the server on {remote.name} is {found.state}",
            hint=f"Stop it there first: {command_line('rhizon', 'stop', folder, '--on', word)}",
        )


def rhizon_there(host: Host, remote: RemoteDefinition, words: Sequence[str]) -> dict[str, object] | None:
    """What the Rhizon of that machine answers to a command, as JSON; None where it answers nothing that is JSON. Raises
    RemoteError."""
    command = (remote.reach.program, *words, "--json")
    return _answer(_run_there(host, remote, command, RHIZON_SECONDS))


def _command(remote: RemoteDefinition, action: Verb) -> tuple[str, ...]:
    control = remote.control
    if control is None and remote.reach.by == "rhizon":
        return (remote.reach.program, action, remote.reach.folder, "--json")
    found = _named(control, action) if control is not None else ()
    if found:
        return found
    raise StateError(
        "remote-no-command",
        f"it is not known how to {action if action != 'status' else 'ask for'} the server on {remote.name}",
        hint=f"Use your host's own way, or name a command in its file: [control] {action} = [...]",
    )


def _named(control: Control, action: Verb) -> tuple[str, ...]:
    """The command for an action; a restart starts a server that does not run, too."""
    if action == "start":
        return control.start or control.restart
    return control.stop if action == "stop" else control.status


def _require_complete(host: Host, remote: RemoteDefinition, reporter: Reporter) -> None:
    """Raises :class:`StateError` where a push there has not ended."""
    mark = with_tries(host, remote, reporter, read_mark)
    if mark is not None:
        raise StateError(
            "remote-incomplete",
            f"what is on {remote.name} is incomplete: a {mark.what} by {mark.who} has not ended ({MARK})",
            hint="Run that push again first.",
        )


def _run_here(command: Sequence[str], seconds: float) -> CommandResult:
    try:
        done = subprocess.run(
            command,
            capture_output=True,
            text=True,
            errors="replace",
            timeout=seconds,
            stdin=subprocess.DEVNULL,
            check=False,
        )
    except subprocess.TimeoutExpired:
        raise RemoteError(
            "remote-command-time",
            f"{command[0]} did not end within {seconds:.0f} s",
            hint="Allow more: [control] seconds.",
        ) from None
    except OSError as broken:
        raise RemoteError(
            "remote-command", f"{command[0]} cannot be run: {broken.strerror}", hint="Correct [control] in its file."
        ) from None
    return CommandResult(done.returncode, done.stdout, done.stderr)


def _run_there(host: Host, remote: RemoteDefinition, command: Sequence[str], seconds: float) -> CommandResult:
    runner = open_runner(remote.reach, host.places.known_hosts)
    try:
        return runner.run(command, seconds)
    finally:
        runner.close()


def _lines(done: CommandResult) -> tuple[str, ...]:
    lines = [*done.output.splitlines(), *done.errors.splitlines()]
    return tuple(printable(one, 300) for one in lines if one.strip())[-LAST_LINES:]


def _answer(done: CommandResult) -> dict[str, object] | None:
    try:
        found = json.loads(done.output)
    except ValueError:
        return None
    return found if isinstance(found, dict) else None


def _message(answer: dict[str, object]) -> str:
    error = answer.get("error")
    return printable(str(error.get("message", "")), 300) if isinstance(error, dict) else ""

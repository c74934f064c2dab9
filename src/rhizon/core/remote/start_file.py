"""What a rented server's host starts: a file of a fixed name, or a command line."""

import shlex
from collections.abc import Collection

from rhizon.core.finding import Finding
from rhizon.core.model.remote import RemoteDefinition
from rhizon.core.names import RelPath, UnsafeNameError, safe_path
from rhizon.core.start_scripts import START_SCRIPTS

__all__ = ["command_findings", "start_file", "start_names"]


def start_names(remote: RemoteDefinition) -> dict[str, RelPath | None]:
    """Names there of the start scripts: that of its system as the host wants it, the other one not at all. A machine
    with Rhizon has both, as here."""
    unix, windows = START_SCRIPTS
    if remote.reach.by == "rhizon":
        return {}
    used, other = (windows, unix) if remote.dictates.system == "windows" else (unix, windows)
    return {used: remote.dictates.start_file or used, other: None}


def start_file(remote: RemoteDefinition) -> RelPath:
    """What is away while files change places, so that half a server cannot start: the start file, or the first file
    that the host's command line names."""
    if remote.dictates.start_command:
        named = _named_files(remote.dictates.start_command)
        if named:
            return named[0]
    used = START_SCRIPTS[1 if remote.dictates.system == "windows" else 0]
    return remote.dictates.start_file or used


def _named_files(command: str) -> list[RelPath]:
    """The words of a command that are paths in the server's folder: with a slash or an ending, and no option."""
    found = []
    for word in shlex.split(command):
        text = word.removeprefix("./")
        if text.startswith(("-", "/")) or not ("." in text or word != text):
            continue
        try:
            found.append(safe_path(text))
        except UnsafeNameError:
            continue
    return found


def command_findings(
    remote: RemoteDefinition, needed: tuple[str, ...], here: Collection[RelPath]
) -> tuple[Finding, ...]:
    """What a host's command line lacks of the one that the server needs (``needed``, without its runtime's program);
    that its file is not among those of ``here``."""
    command = remote.dictates.start_command
    if not command:
        return ()
    words = shlex.split(command)
    subject = "start_command"
    lacking = [
        Finding(
            code="push-start-command",
            severity="error",
            subject=subject,
            what=f"the host runs {path}, which the server does not have",
            remedy="Correct start_command in the remote file, or ask the host for another command line.",
        )
        for path in _named_files(command)[:1]
        if path not in here
    ]
    if lacking or START_SCRIPTS[0] in words or f"./{START_SCRIPTS[0]}" in words:
        return tuple(lacking)
    missing = [word for word in needed if word not in words]
    if not missing:
        return ()
    return (
        Finding(
            code="push-start-command",
            severity="warning",
            subject=subject,
            what=f"the host's command line does not have {shlex.join(missing)}, which this server is started with here",
            remedy=f"Ask the host to run: {shlex.join([*words[:1], *needed])}",
        ),
    )

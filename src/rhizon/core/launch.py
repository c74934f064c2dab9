"""The command that starts a server, and the scripts that do it on a machine without Rhizon."""

import shlex
from collections.abc import Mapping, Sequence

from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import RuntimeChoice
from rhizon.core.names import RelPath
from rhizon.core.runtimes import FAMILIES

__all__ = ["START_SCRIPTS", "fill", "start_command", "start_scripts"]

START_SCRIPTS = (RelPath("start.sh"), RelPath("start.cmd"))


def fill(command: Sequence[str], words: Mapping[str, str], lists: Mapping[str, Sequence[str]]) -> tuple[str, ...]:
    """``{name}`` in each argument filled in; an argument that is only ``{name}`` of a list becomes its items."""
    made: list[str] = []
    for argument in command:
        name = argument[1:-1] if argument.startswith("{") and argument.endswith("}") else ""
        if name in lists:
            made.extend(lists[name])
            continue
        for word, value in words.items():
            argument = argument.replace("{" + word + "}", value)
        made.append(argument)
    return tuple(made)


def start_command(
    game: GameDefinition,
    loader: str | None,
    runtime: RuntimeChoice | None,
    heap_mib: int,
    *,
    path_separator: str,
    program: str | None = None,
    measured: str | None = None,
) -> tuple[str, ...]:
    """The arguments that start the server in its folder; without a loader, the bare server. ``measured`` is the folder
    there that the runtime writes logs of its memory into."""
    command = game.loaders[loader].command if loader is not None else game.command
    family = FAMILIES.get(game.runtime.family)
    flags = family.flags(runtime.major, heap_mib) if family and runtime else ()
    if measured is not None and family and runtime:
        flags += family.measuring(runtime.major, measured)
    path = program or (runtime.program if runtime else "")
    return fill(command, {"runtime": path, "path_separator": path_separator}, {"runtime_flags": flags})


def start_scripts(
    game: GameDefinition, loader: str, runtime: RuntimeChoice | None, heap_mib: int
) -> dict[RelPath, bytes]:
    """``start.sh`` and ``start.cmd``: the recorded runtime where it still is, else the one on the path.

    RHIZON_RUNTIME names another one.
    """
    title = f"{game.title} server: {heap_mib} MiB of heap, written by rhizon; the console reads standard input."
    family = FAMILIES.get(game.runtime.family)
    fallback = family.program if family else ""
    recorded = runtime.program if runtime else ""
    mark = "RHIZON_RUNTIME_HERE"
    unix = start_command(game, loader, runtime, heap_mib, path_separator=":", program=mark)
    windows = start_command(game, loader, runtime, heap_mib, path_separator=";", program=mark)
    sh = " ".join('"$runtime"' if one == mark else shlex.quote(one) for one in unix)
    cmd = " ".join('"%RUNTIME%"' if one == mark else f'"{_cmd(one)}"' for one in windows)
    needs = f" Java {runtime.major}" if runtime and family else ""
    return {
        START_SCRIPTS[0]: (
            f"#!/bin/sh\n# {title}\n# It needs{needs or ' no runtime'}; RHIZON_RUNTIME names the program to use.\n"
            'cd "$(dirname "$0")" || exit 1\n'
            f"runtime=${{RHIZON_RUNTIME:-{shlex.quote(recorded)}}}\n"
            f'[ -x "$runtime" ] || runtime={shlex.quote(fallback)}\n'
            f"exec {sh}\n"
        ).encode(),
        START_SCRIPTS[1]: (
            f"@echo off\r\nrem {title}\r\nrem It needs{needs or ' no runtime'}; RHIZON_RUNTIME names it.\r\n"
            'cd /d "%~dp0"\r\n'
            f'set "RUNTIME={_cmd(recorded)}"\r\n'
            'if defined RHIZON_RUNTIME set "RUNTIME=%RHIZON_RUNTIME%"\r\n'
            f'if not exist "%RUNTIME%" set "RUNTIME={fallback}"\r\n'
            f"{cmd}\r\n"
        ).encode(),
    }


def _cmd(text: str) -> str:
    return text.replace("%", "%%")

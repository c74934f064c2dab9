"""The scripts that start a server on a machine without Rhizon: ``start.sh`` and ``start.cmd``.

They take the recorded runtime where it still is, else the one on the path; RHIZON_RUNTIME names another one. A file of
arguments is read when the script runs, as :func:`~rhizon.core.settings.dialects.plain.argument_list` reads it.
"""

import shlex
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from rhizon.core.launch import Launch, start_command, start_environment
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import RuntimeChoice
from rhizon.core.names import RelPath
from rhizon.core.runtimes import FAMILIES

__all__ = ["START_SCRIPTS", "start_scripts"]

START_SCRIPTS = (RelPath("start.sh"), RelPath("start.cmd"))
_RUNTIME = "\0runtime"  # in a command these two stand for what is only known when it runs
_ARGUMENTS = "\0arguments"


class _Start(NamedTuple):
    """What a script is written from. ``usual`` is the runtime's program as it is called on the path."""

    remarks: tuple[str, str]
    variables: Mapping[str, str]
    command: tuple[str, ...]
    recorded: str
    usual: str
    arguments_file: str | None


def start_scripts(
    game: GameDefinition, loader: str, runtime: RuntimeChoice | None, heap_mib: int, content: Sequence[str] = ()
) -> dict[RelPath, bytes]:
    """Both scripts; ``content`` are the paths given to the loader."""

    def start(path_separator: str) -> _Start:
        family = FAMILIES.get(game.runtime.family)
        return _Start(
            remarks=_remarks(game, runtime, heap_mib),
            variables=start_environment(game, runtime, heap_mib),
            command=start_command(
                game,
                Launch(
                    loader,
                    runtime,
                    heap_mib,
                    path_separator=path_separator,
                    content=content,
                    arguments=(_ARGUMENTS,) if game.arguments_file is not None else (),
                    program=_RUNTIME,
                ),
            ),
            recorded=runtime.program if runtime else "",
            usual=family.program if family else "",
            arguments_file=game.arguments_file,
        )

    unix, windows = START_SCRIPTS
    return {unix: "\n".join(_unix(start(":"))).encode(), windows: "\r\n".join(_windows(start(";"))).encode()}


def _remarks(game: GameDefinition, runtime: RuntimeChoice | None, heap_mib: int) -> tuple[str, str]:
    heap = f"{heap_mib} MiB of heap, " if game.runtime.family != "none" else ""
    needs = "It needs no runtime."
    if game.runtime.family in FAMILIES and runtime is not None:
        needs = f"It needs {runtime.family} {runtime.major}; RHIZON_RUNTIME names the program to use."
    return f"{game.title} server: {heap}written by rhizon; the console reads standard input.", needs


def _unix(start: _Start) -> list[str]:
    """The script for POSIX shells."""
    lines = ["#!/bin/sh", *(f"# {one}" for one in start.remarks), 'cd "$(dirname "$0")" || exit 1']
    lines += [f"export {name}={shlex.quote(value)}" for name, value in start.variables.items()]
    if _RUNTIME in start.command:
        lines += [
            f"runtime=${{RHIZON_RUNTIME:-{shlex.quote(start.recorded)}}}",
            f'[ -x "$runtime" ] || runtime={shlex.quote(start.usual)}',
        ]
    if start.arguments_file is not None:
        lines += [
            f"# one argument per line in {start.arguments_file}; # begins a comment",
            "set --",
            'while IFS= read -r line || [ -n "$line" ]; do',
            "  line=$(printf '%s' \"$line\" | sed 's/\\r$//; s/^[[:space:]]*//; s/[[:space:]]*$//')",
            "  case $line in ''|'#'*) continue ;; esac",
            "  first=${line%%[[:space:]]*}",
            "  case $first in",
            '    [-+/]*=*|"$line") set -- "$@" "$line" ;;',
            '    [-+/]*) set -- "$@" "$first" "$(printf \'%s\' "${line#"$first"}" | sed \'s/^[[:space:]]*//\')" ;;',
            '    *) set -- "$@" "$line" ;;',
            "  esac",
            f"done < {shlex.quote(start.arguments_file)}",
        ]
    known = {_RUNTIME: '"$runtime"', _ARGUMENTS: '"$@"'}
    return [*lines, "exec " + " ".join(known.get(one) or shlex.quote(one) for one in start.command), ""]


# What stands in the file must not be read by cmd as a command: PowerShell, which every Windows has, puts it in quotes.
_READ_ARGUMENTS = (
    "$q=[string][char]34;"
    "$words=@(foreach($line in [IO.File]::ReadAllLines('FILE')){"
    "$line=$line.Trim();"
    "if(-not $line -or $line.StartsWith('#')){continue};"
    "if($line -match '^[-+/]\\S*='){$line}"
    "elseif($line -match '^([-+/]\\S*)\\s+(.*)$'){$matches[1];$matches[2]}"
    "else{$line}});"
    "($words|ForEach-Object{$q+$_.Replace($q,'\\'+$q)+$q}) -join ' '"
)


def _windows(start: _Start) -> list[str]:
    """The script for cmd.exe, with CRLF line ends."""
    lines = ["@echo off", "setlocal DisableDelayedExpansion", *(f"rem {one}" for one in start.remarks), 'cd /d "%~dp0"']
    lines += [f'set "{name}={_cmd(value)}"' for name, value in start.variables.items()]
    if _RUNTIME in start.command:
        lines += [
            f'set "RUNTIME={_cmd(start.recorded)}"',
            'if defined RHIZON_RUNTIME set "RUNTIME=%RHIZON_RUNTIME%"',
            f'if not exist "%RUNTIME%" set "RUNTIME={start.usual}"',
        ]
    if start.arguments_file is not None:
        read = _cmd(_READ_ARGUMENTS.replace("FILE", start.arguments_file.replace("'", "''")))
        lines += [
            'set "ARGUMENTS="',
            f'for /f "delims=" %%a in (\'powershell -NoProfile -Command "{read}"\') do set "ARGUMENTS=%%a"',
        ]
    known = {_RUNTIME: '"%RUNTIME%"', _ARGUMENTS: "%ARGUMENTS%"}
    return [*lines, " ".join(known.get(one) or f'"{_cmd(one)}"' for one in start.command), ""]


def _cmd(text: str) -> str:
    return text.replace("%", "%%")

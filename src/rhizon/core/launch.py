"""The command that starts a server, and the scripts that do it on a machine without Rhizon."""

import shlex
from collections.abc import Mapping, Sequence

from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import RuntimeChoice
from rhizon.core.names import RelPath
from rhizon.core.runtimes import FAMILIES

__all__ = ["START_SCRIPTS", "fill", "start_command", "start_environment", "start_scripts"]

START_SCRIPTS = (RelPath("start.sh"), RelPath("start.cmd"))
_RUNTIME = "\0runtime"  # in a script these two stand for what is only known when it runs
_ARGUMENTS = "\0arguments"


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
    content: Sequence[str] = (),
    arguments: Sequence[str] = (),
    program: str | None = None,
    measured: str | None = None,
) -> tuple[str, ...]:
    """The arguments that start the server in its folder; without a loader, the bare server. ``content`` are the paths
    that the loader is told, ``arguments`` those of the game's file of them. ``measured`` is the folder there that the
    runtime writes logs of its memory into."""
    rule = game.loaders[loader] if loader is not None else None
    family = FAMILIES.get(game.runtime.family)
    flags = family.flags(runtime.major, heap_mib) if family and runtime else ()
    if measured is not None and family and runtime:
        flags += family.measuring(runtime.major, measured)
    path = program or (runtime.program if runtime else "")
    words = {"runtime": path, "path_separator": path_separator, "heap_mib": str(heap_mib), "content": ""}
    lists = {"runtime_flags": flags, "content": (), "arguments": tuple(arguments)}
    if rule is not None:
        words["content"] = rule.content.separator.join(content)
        lists["content"] = tuple(word.replace("{path}", one) for one in content for word in rule.content.each)
    return fill(rule.command if rule is not None else game.command, words, lists)


def start_environment(game: GameDefinition, runtime: RuntimeChoice | None, heap_mib: int) -> dict[str, str]:
    """The variables that a server is started with: the runtime's, and those of the definition."""
    family = FAMILIES.get(game.runtime.family)
    own = family.environment(runtime.major, heap_mib) if family and runtime else {}
    return {**own, **game.environment}


def start_scripts(
    game: GameDefinition, loader: str, runtime: RuntimeChoice | None, heap_mib: int, content: Sequence[str] = ()
) -> dict[RelPath, bytes]:
    """``start.sh`` and ``start.cmd``: the recorded runtime where it still is, else the one on the path.

    RHIZON_RUNTIME names another one. The file of arguments is read when the script runs.
    """
    return {
        START_SCRIPTS[0]: _unix(game, loader, runtime, heap_mib, content).encode(),
        START_SCRIPTS[1]: _windows(game, loader, runtime, heap_mib, content).encode(),
    }


def _command(
    game: GameDefinition,
    loader: str,
    runtime: RuntimeChoice | None,
    heap_mib: int,
    content: Sequence[str],
    path_separator: str,
) -> tuple[str, ...]:
    return start_command(
        game,
        loader,
        runtime,
        heap_mib,
        path_separator=path_separator,
        content=content,
        arguments=(_ARGUMENTS,) if game.arguments_file is not None else (),
        program=_RUNTIME,
    )


def _title(game: GameDefinition, heap_mib: int) -> str:
    heap = f"{heap_mib} MiB of heap, " if game.runtime.family != "none" else ""
    return f"{game.title} server: {heap}written by rhizon; the console reads standard input."


def _needs(game: GameDefinition, runtime: RuntimeChoice | None) -> str:
    if FAMILIES.get(game.runtime.family) is None or runtime is None:
        return "It needs no runtime."
    return f"It needs {runtime.family} {runtime.major}; RHIZON_RUNTIME names the program to use."


def _unix(
    game: GameDefinition, loader: str, runtime: RuntimeChoice | None, heap_mib: int, content: Sequence[str]
) -> str:
    variables = start_environment(game, runtime, heap_mib)
    known = {_RUNTIME: '"$runtime"', _ARGUMENTS: '"$@"'}
    command = _command(game, loader, runtime, heap_mib, content, ":")
    lines = ["#!/bin/sh", f"# {_title(game, heap_mib)}", f"# {_needs(game, runtime)}", 'cd "$(dirname "$0")" || exit 1']
    lines += [f"export {name}={shlex.quote(value)}" for name, value in variables.items()]
    if _RUNTIME in command:
        family = FAMILIES.get(game.runtime.family)
        lines += [
            f"runtime=${{RHIZON_RUNTIME:-{shlex.quote(runtime.program if runtime else '')}}}",
            f'[ -x "$runtime" ] || runtime={shlex.quote(family.program if family else "")}',
        ]
    if game.arguments_file is not None:
        lines += [
            f"# one argument a line in {game.arguments_file}; # begins a comment",
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
            f"done < {shlex.quote(game.arguments_file)}",
        ]
    return "\n".join([*lines, "exec " + " ".join(known.get(one) or shlex.quote(one) for one in command), ""])


def _windows(
    game: GameDefinition, loader: str, runtime: RuntimeChoice | None, heap_mib: int, content: Sequence[str]
) -> str:
    variables = start_environment(game, runtime, heap_mib)
    known = {_RUNTIME: '"%RUNTIME%"', _ARGUMENTS: "%ARGUMENTS%"}
    command = _command(game, loader, runtime, heap_mib, content, ";")
    lines = ["@echo off", f"rem {_title(game, heap_mib)}", f"rem {_needs(game, runtime)}", 'cd /d "%~dp0"']
    lines += [f'set "{name}={_cmd(value)}"' for name, value in variables.items()]
    if _RUNTIME in command:
        family = FAMILIES.get(game.runtime.family)
        lines += [
            f'set "RUNTIME={_cmd(runtime.program if runtime else "")}"',
            'if defined RHIZON_RUNTIME set "RUNTIME=%RHIZON_RUNTIME%"',
            f'if not exist "%RUNTIME%" set "RUNTIME={family.program if family else ""}"',
        ]
    run = " ".join(known.get(one) or f'"{_cmd(one)}"' for one in command)
    if game.arguments_file is None:
        return "\r\n".join([*lines, run, ""])
    return "\r\n".join(
        [
            *lines,
            "set ARGUMENTS=",
            f'for /f "usebackq eol=# tokens=1,*" %%a in ("{_cmd(game.arguments_file)}") do call :one "%%a" "%%b"',
            run,
            "exit /b %ERRORLEVEL%",
            ":one",
            'if "%~2"=="" (set ARGUMENTS=%ARGUMENTS% "%~1") & exit /b',
            'echo %~1| find "=" >nul && (set ARGUMENTS=%ARGUMENTS% "%~1 %~2") & exit /b',
            'set ARGUMENTS=%ARGUMENTS% "%~1" "%~2"',
            "exit /b",
            "",
        ]
    )


def _cmd(text: str) -> str:
    return text.replace("%", "%%")

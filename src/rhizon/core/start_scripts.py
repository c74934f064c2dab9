"""The scripts that start a server on a machine without Rhizon: ``start.sh`` and ``start.cmd``.

They take the recorded runtime where it still is, else the one on the path; RHIZON_RUNTIME names another one. Files of
arguments and of variables are read when the script runs, as :mod:`~rhizon.core.settings.dialects.arguments` and
``environment`` there read them.
"""

import shlex
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from rhizon.core.launch import Launch, start_command, start_environment
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import RuntimeChoice
from rhizon.core.names import RelPath
from rhizon.core.runtimes import family_of
from rhizon.core.start_cmd import ARGUMENTS, RUNTIME, cmd_script

PATH_WORD = "{PATH}"  # in a variable: what the person's own PATH is when the script runs

__all__ = ["START_SCRIPTS", "start_scripts"]

START_SCRIPTS = (RelPath("start.sh"), RelPath("start.cmd"))


class _Start(NamedTuple):
    """What a script is written from. ``usual`` is the runtime's program as it is called on the path."""

    remarks: tuple[str, str]
    variables: Mapping[str, str]
    command: tuple[str, ...]
    recorded: str
    usual: str
    arguments_file: str | None
    pair_words: tuple[str, ...]
    environment_file: str | None


def start_scripts(
    game: GameDefinition, loader: str, runtime: RuntimeChoice | None, heap_mib: int, content: Sequence[str] = ()
) -> dict[RelPath, bytes]:
    """Both scripts; ``content`` are the paths given to the loader."""

    def start(path_separator: str) -> _Start:
        family = family_of(game.runtime)
        return _Start(
            remarks=_remarks(game, runtime, heap_mib),
            variables=start_environment(game, runtime, heap_mib, loader),
            command=start_command(
                game,
                Launch(
                    loader,
                    runtime,
                    heap_mib,
                    path_separator=path_separator,
                    content=content,
                    arguments=(ARGUMENTS,) if game.arguments_file is not None else (),
                    program=RUNTIME,
                ),
            ),
            recorded=runtime.program if runtime else "",
            usual=family.program if family else "",
            arguments_file=game.arguments_file,
            pair_words=game.pair_words,
            environment_file=game.environment_file,
        )

    unix, windows = START_SCRIPTS
    return {unix: "\n".join(_unix(start(":"))).encode(), windows: cmd_script(**start(";")._asdict())}


def _remarks(game: GameDefinition, runtime: RuntimeChoice | None, heap_mib: int) -> tuple[str, str]:
    heap = f"{heap_mib} MiB of heap, " if game.runtime.family != "none" else ""
    needs = "It needs no runtime."
    if runtime is not None:
        needs = f"It needs {runtime.family} {runtime.major}; RHIZON_RUNTIME names the program to use."
    return f"{game.title} server: {heap}written by rhizon; the console reads standard input.", needs


_PAIR = (
    "rest=$(printf '%s' \"${line#\"$first\"}\" | sed 's/^[[:space:]]*//'); name=${rest%%[[:space:]]*}; "
    "value=$(printf '%s' \"${rest#\"$name\"}\" | sed 's/^[[:space:]]*//'); "
    'set -- "$@" "$first" ${name:+"$name"} ${value:+"$value"}'
)


def _unix(start: _Start) -> list[str]:
    """The script for POSIX shells."""
    lines = ["#!/bin/sh", *(f"# {one}" for one in start.remarks), 'cd "$(dirname "$0")" || exit 1']
    lines += [
        f"export {name}={shlex.quote(value)}".replace(PATH_WORD, "'\"$PATH\"'")
        for name, value in start.variables.items()
    ]
    if RUNTIME in start.command:
        lines += [
            f"runtime=${{RHIZON_RUNTIME:-{shlex.quote(start.recorded)}}}",
            f'[ -x "$runtime" ] || runtime={shlex.quote(start.usual)}',
        ]
    if start.environment_file is not None:
        lines += [
            f"# one variable per line in {start.environment_file}; # begins a comment",
            'while IFS= read -r line || [ -n "$line" ]; do',
            "  line=$(printf '%s' \"$line\" | sed 's/\\r$//')",
            "  name=${line%%=*}",
            "  case $name in \"$line\"|''|[0-9]*|*[!A-Za-z0-9_]*) continue ;; esac",
            '  export "$line"',
            f"done < {shlex.quote(start.environment_file)}",
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
            *(f"    {shlex.quote(word)}) {_PAIR} ;;" for word in start.pair_words),
            '    [-+/]*=*|"$line") set -- "$@" "$line" ;;',
            '    [-+/]*) set -- "$@" "$first" "$(printf \'%s\' "${line#"$first"}" | sed \'s/^[[:space:]]*//\')" ;;',
            '    *) set -- "$@" "$line" ;;',
            "  esac",
            f"done < {shlex.quote(start.arguments_file)}",
        ]
    known = {RUNTIME: '"$runtime"', ARGUMENTS: '"$@"'}
    return [*lines, "exec " + " ".join(known.get(one) or shlex.quote(one) for one in start.command), ""]

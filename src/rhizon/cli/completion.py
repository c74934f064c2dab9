"""What the shell completes beside commands and options: games, settings, port roles, backups, kept states.

Servers are completed by their own type (:mod:`rhizon.cli.servers`). Completion prints no errors: what cannot be read
completes nothing.
"""

import contextlib
import os
import shlex
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING

import click
from click.shell_completion import CompletionItem

if TYPE_CHECKING:
    from rhizon.app.host import Host
    from rhizon.cli.servers import Server

__all__ = ["complete_backups", "complete_games", "complete_roles", "complete_settings", "complete_states"]

Completer = Callable[[click.Context, click.Parameter, str], list[CompletionItem]]


def _completer(found: "Callable[[Host, Server | None], Iterable[tuple[str, str]]]") -> Completer:
    """A completer for click that lists what ``found`` gives and stays silent where it fails."""

    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:  # noqa: ARG001
        from rhizon.app.host import this_host
        from rhizon.core.errors import RhizonError

        with contextlib.suppress(RhizonError, OSError, ValueError):
            return [
                CompletionItem(word, help=text)
                for word, text in found(this_host(), _server_of(ctx))
                if word.startswith(incomplete)
            ]
        return []

    return complete


def _server_of(ctx: click.Context) -> "Server | None":
    """The server of the unfinished line. Click knows it no more when the last option still lacks its value; it is then
    the first word behind the command that is not an option."""
    server: Server | None = ctx.params.get("server")
    if server is not None:
        return server
    from rhizon.cli.servers import FOLDER

    words = shlex.split(os.environ.get("COMP_WORDS", ""))[len(ctx.command_path.split()) : -1]
    word = next((one for one in words if not one.startswith("-")), None)
    return FOLDER.convert(word, None, ctx) if word is not None else None


def _games(host: "Host", _server: "Server | None") -> Iterable[tuple[str, str]]:
    from pathlib import Path

    return [(name, str(file)) for name, file in host.games(Path.cwd()).files().items()]


def _settings(host: "Host", server: "Server | None") -> Iterable[tuple[str, str]]:
    if server is None:
        return []
    from rhizon.app.tune.list_settings import list_settings

    return [(f"{one.name}=", one.meaning) for one in list_settings(host, server.folder).settings]


def _roles(host: "Host", server: "Server | None") -> Iterable[tuple[str, str]]:
    if server is None:
        return []
    from rhizon.app.tune.list_ports import list_ports

    ports = list_ports(host, server.folder, None).ports
    return [(f"{one.role}=", f"now {one.first}") for one in {line.role: line for line in ports}.values()]


def _backups(host: "Host", server: "Server | None") -> Iterable[tuple[str, str]]:
    from rhizon.app.keep.find_backup import list_backups

    folder = server.folder if server is not None else None
    return [(one.when, one.why) for one in reversed(list_backups(host, folder).backups)]


def _states(host: "Host", server: "Server | None") -> Iterable[tuple[str, str]]:
    if server is None:
        return []
    from rhizon.app.keep.undo import list_kept_states

    return [(str(one.number), one.before) for one in list_kept_states(host, server.folder).states]


complete_games = _completer(_games)
complete_settings = _completer(_settings)
complete_roles = _completer(_roles)
complete_backups = _completer(_backups)
complete_states = _completer(_states)

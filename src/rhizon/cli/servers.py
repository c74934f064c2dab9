"""Servers on the command line: by their name on this machine or by their folder."""

import os
import shlex
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import click
from click.shell_completion import CompletionItem

if TYPE_CHECKING:
    from rhizon.app.host import Host

__all__ = ["FOLDER", "SERVER", "Server", "ServerParam", "every_server"]


class Server(NamedTuple):
    """A server's folder, and the word that names it in the commands that are printed."""

    folder: Path
    label: str


class ServerParam(click.ParamType):  # type: ignore[type-arg]
    """A bare word is the name of a server where one has it, else a folder here; anything with a slash is a folder."""

    name = "server"

    def __init__(self, *, new: bool) -> None:
        self._new = new  # a folder may be named that is not there yet

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Server:
        """The server that was typed. Raises InputError where no server has the name."""
        if isinstance(value, Server):
            return value
        text = str(value)
        if not text:
            self.fail("The name of a server is not empty.", param, ctx)
        if not _is_bare(text):
            return Server(Path(text), text)
        from rhizon.app.host import this_host
        from rhizon.app.machine.find_server import find_server

        as_folder = shlex.join(["rhizon", *(f"./{text}" if one == text else one for one in sys.argv[1:])])
        return Server(find_server(this_host(), text, new=self._new, as_folder=as_folder), text)

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:  # noqa: ARG002
        """Names of servers, and folders."""
        from rhizon.app.host import this_host

        found = [
            CompletionItem(server.label, help=str(server.folder))
            for server in every_server(this_host())
            if server.label.startswith(incomplete)
        ]
        return [*found, CompletionItem(incomplete, type="dir")]


def _is_bare(text: str) -> bool:
    return text not in (".", "..", "~") and os.sep not in text and (os.altsep is None or os.altsep not in text)


SERVER = ServerParam(new=False)
FOLDER = ServerParam(new=True)


def every_server(host: "Host") -> Iterator[Server]:
    """All servers of this machine, by name."""
    from rhizon.app.machine.list_instances import list_instances

    for one in sorted(list_instances(host).instances, key=lambda one: (one.name, one.folder)):
        yield Server(Path(one.folder), one.name)

"""Which server a person means by a word: a name on this machine, or a folder."""

from pathlib import Path

from rhizon.app.host import Host
from rhizon.app.instance.reservations import known_servers
from rhizon.core.errors import InputError
from rhizon.core.names import suggestions
from rhizon.core.words import command_line, free_name

__all__ = ["find_server"]


def find_server(host: Host, word: str, *, new: bool = False, as_folder: str = "") -> Path:
    """The folder of the server that ``word`` names: the one registered under that name, else the folder ``word`` here,
    which need not be there yet where ``new`` allows it. ``as_folder`` is the same command with ``./word`` in its place.

    Raises :class:`InputError`: nothing has that name (``no-such-server``), or more than one server could be meant
    (``which-server``).
    """
    servers, _ = known_servers(host)
    here = Path(word)
    named = [one.entry.folder for one in servers if one.entry.name == word]
    elsewhere = [folder for folder in named if folder != str(here.absolute())]
    if elsewhere and host.home(here).is_ours:
        raise InputError(
            "which-server",
            f"{word} is the name of the server in {elsewhere[0]}, and ./{word} is another server",
            hint=f"For the one in ./{word}: {as_folder}",
        )
    if len(named) > 1:
        again = command_line("rhizon", "rename", named[-1], free_name(word, {one.entry.name for one in servers}))
        raise InputError(
            "which-server",
            f"{len(named)} servers are named {word}: {', '.join(named)}",
            hint=f"Give one of them another name: {again}",
        )
    if named:
        return Path(named[0])
    if new or here.exists() or any(one.entry.folder == str(here.absolute()) for one in servers):
        return here
    guess = suggestions(word, [one.entry.name for one in servers], 1)
    raise InputError(
        "no-such-server",
        f"no server is named {word}, and there is no folder {here.absolute()}",
        hint=f"Did you mean {guess[0]}? All names: rhizon list" if guess else "See the names: rhizon list",
    )

"""The command that starts a server, and what it is started with."""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import RuntimeChoice
from rhizon.core.runtimes import family_of

__all__ = ["Launch", "fill", "start_command", "start_environment"]


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


class Launch(NamedTuple):
    """How a server is started: with which loader (None: the bare server), runtime and heap in MiB.

    ``content`` are the paths given to the loader, ``arguments`` those of the game's file of them. ``measured``
    is the folder there that the runtime writes logs of its memory into, ``program`` a word for the runtime's program
    where that is only known later.
    """

    loader: str | None
    runtime: RuntimeChoice | None
    heap_mib: int
    path_separator: str = ":"
    content: Sequence[str] = ()
    arguments: Sequence[str] = ()
    program: str | None = None
    measured: str | None = None


def start_command(game: GameDefinition, launch: Launch) -> tuple[str, ...]:
    """The arguments that start the server in its folder."""
    loader, runtime, heap_mib, content = launch.loader, launch.runtime, launch.heap_mib, launch.content
    rule = game.loaders[loader] if loader is not None else None
    family = family_of(game.runtime)
    flags = family.flags(runtime.major, heap_mib) if family and runtime else ()
    if launch.measured is not None and family and runtime:
        flags += family.measuring(runtime.major, launch.measured)
    path = launch.program or (runtime.program if runtime else "")
    words = {"runtime": path, "path_separator": launch.path_separator, "heap_mib": str(heap_mib), "content": ""}
    lists = {"runtime_flags": flags, "content": (), "arguments": tuple(launch.arguments)}
    if rule is not None:
        words["content"] = rule.content.separator.join(content)
        lists["content"] = tuple(word.replace("{path}", one) for one in content for word in rule.content.each)
    return fill(rule.command if rule is not None else game.command, words, lists)


def start_environment(
    game: GameDefinition, runtime: RuntimeChoice | None, heap_mib: int, loader: str | None = None
) -> dict[str, str]:
    """The variables that a server is started with: the runtime's, those of the definition, and the loader's."""
    family = family_of(game.runtime)
    own = family.environment(runtime.major, heap_mib) if family and runtime else {}
    loaded = game.loaders[loader].environment if loader is not None else {}
    return {**own, **game.environment, **loaded}

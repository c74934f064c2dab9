"""``rhizon game list``, ``show``, ``new``, ``check`` and ``try``."""

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, next_steps, say, show_findings, show_table, verdict
from rhizon.core.settings.apply import spelt

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.games.new_and_try import TryResult
    from rhizon.core.model.game import GameDefinition
    from rhizon.core.model.setting import SettingDefinition, Stored

__all__ = ["command"]


@click.group("game")
def command() -> None:
    """Game definitions: list, show, new, check, try."""


@command.command("list")
@common
def list_(out: Output) -> None:
    """Every game that Rhizon knows from here, and where its definition lies."""
    from rhizon.app.games.check import list_games
    from rhizon.app.host import this_host

    games = list_games(this_host())

    def render(to: "Console") -> None:
        verdict(to, f"{len(games)} game definition{'s' if len(games) != 1 else ''}")
        rows = [
            (one.id, one.title, ", ".join(one.versions), ", ".join(one.loaders), one.runtime, one.trouble or one.file)
            for one in games
        ]
        show_table(to, ("id", "title", "versions", "loaders", "runtime", "file"), rows)

    out.result(games, render)


@command.command("show")
@click.argument("game", metavar="GAME_OR_FILE")
@common
def show(game: str, out: Output) -> None:
    """One definition: its settings, ports, folders, loaders and how it is launched."""
    from rhizon.app.games.check import show_game
    from rhizon.app.host import this_host

    found, file = show_game(this_host(), game)
    out.result(found, lambda to: _render(to, found, file))


def _render(to: "Console", game: "GameDefinition", file: Path) -> None:
    verdict(to, f"{game.title}: {game.summary} ({game.id}; {file})")
    rules = "; ".join(f"{rule.game_versions}: {game.runtime.family} {rule.majors}" for rule in game.runtime.rules)
    say(to, f"versions: {', '.join(game.versions)}")
    say(to, f"runtime: {game.runtime.family}" + (f" ({rules})" if rules else ""))
    placing = {kind: f" (unpacked as {rule.name})" for kind, rule in game.placing.items() if rule.unpack}
    folders = (f"{kind} → {folder}{placing.get(kind, '')}" for kind, folder in game.folders.items())
    say(to, f"folders: {', '.join(folders)}")
    rows = [
        (
            name,
            loader.title,
            ", ".join(loader.kinds),
            ", ".join(f"{rule.file} ({rule.format})" for rule in loader.metadata),
        )
        for name, loader in game.loaders.items()
    ]
    to.print()
    show_table(to, ("loader", "title", "takes", "metadata"), rows)
    to.print()
    ports = [(one.role, "+".join(one.protocols), str(one.default), _places(one.store)) for one in game.ports]
    show_table(to, ("port", "protocols", "default", "written to"), ports, right=("default",))
    to.print()
    settings = [
        (
            name,
            _allowed(one),
            "" if one.secret else spelt(one.default),
            one.meaning,
            _places((one.store,)),
        )
        for name, one in game.settings.items()
    ]
    show_table(to, ("setting", "allowed", "default", "meaning", "written to"), settings)
    next_steps(to, [(("rhizon", "game", "check", str(file)), "what is wrong or missing in it")])


def _places(stores: "Iterable[Stored | None]") -> str:
    return ", ".join(f"{one.file}: {one.key}" for one in stores if one is not None)


def _allowed(setting: "SettingDefinition") -> str:
    return "a secret" if setting.secret else setting.allowed.removeprefix("a whole number from ")


@command.command("check")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--against", type=click.Path(path_type=Path), metavar="ARCHIVE", help="Show what it takes out of this.")
@common
def check(file: Path, against: Path | None, out: Output) -> None:
    """What is wrong or missing in the definition FILE. Exit code 2 when it cannot be used."""
    from rhizon.app.games.check import check_game, take_out

    checked = check_game(file)
    taken = take_out(file, against) if against is not None else []

    def render(to: "Console") -> None:
        odd = len(checked.findings)
        text = f"{checked.title} ({checked.file}) can be used" + (
            f"; {odd} thing{'s' if odd != 1 else ''} could be better" if odd else ""
        )
        verdict(to, text)
        for one in taken:
            to.print()
            say(to, f"{one.loader}, from {one.file}:" + (f" {one.trouble}" if one.trouble else ""))
            show_table(to, ("field", "value"), [(name, value or "(nothing)") for name, value in one.values.items()])
        show_findings(to, checked.findings)

    out.result({"definition": checked, "taken": taken} if against is not None else checked, render, checked.findings)


@command.command("new")
@click.argument("ident", metavar="ID")
@click.option("--to", type=click.Path(path_type=Path), default=Path(), metavar="DIR", help="Into that folder.")
@common
def new(ident: str, to: Path, out: Output) -> None:
    """Write ID.game.toml: a commented definition to fill in for a game of your own."""
    from rhizon.app.games.new_and_try import new_game

    file = new_game(ident, to)

    def render(console: "Console") -> None:
        verdict(console, f"{file} is to be filled in")
        check_it = ("rhizon", "game", "check", str(file))
        try_it = ("rhizon", "game", "try", str(file), "--server", "FOLDER", "--log", "FILE")
        next_steps(console, [(check_it, "what is wrong or missing"), (try_it, "what it finds in a real server")])

    out.result({"file": str(file)}, render)


@command.command("try")
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--server", type=click.Path(path_type=Path), required=True, metavar="FOLDER", help="A real server's folder."
)
@click.option("--log", type=click.Path(path_type=Path), metavar="FILE", help="A log that it wrote.")
@click.option("--archive", type=click.Path(path_type=Path), metavar="FILE", help="Content for it.")
@common
def try_(file: Path, server: Path, log: Path | None, archive: Path | None, out: Output) -> int:
    """What the definition FILE finds in a real server: each setting and port with what stands there, each folder, the
    launch line, which lines of a log each pattern matches, what an archive says. Nothing is changed."""
    from rhizon.app.games.new_and_try import try_game

    tried = try_game(file, server, log, archive)
    out.result(tried, lambda to: _tried(to, tried))
    return 1 if tried.trouble else 0


def _tried(to: "Console", tried: "TryResult") -> None:
    odd = tried.trouble
    verdict(
        to,
        f"{tried.title}: "
        + (
            ("one thing is" if odd == 1 else f"{odd} things are") + " not as the definition says"
            if odd
            else "all is found"
        ),
        good=not odd,
    )
    rows = [(one.name, one.value or "-", one.stored, one.trouble) for one in (*tried.settings, *tried.ports)]
    show_table(to, ("setting or port", "there now", "stored in", "trouble"), rows)
    to.print()
    show_table(to, ("what", "path", "there"), [(one.what, one.path, _yes(one.there)) for one in tried.places])
    to.print()
    for name, words in tried.launch.items():
        say(to, f"{name} starts as: {' '.join(words)}")
    if tried.patterns:
        to.print()
        matched = [(one.name, str(one.matches), ", ".join(map(str, one.lines)), one.first) for one in tried.patterns]
        show_table(to, ("pattern", "matches", "lines", "the first"), matched, right=("matches",))
    for taken in tried.taken:
        to.print()
        say(to, f"{taken.loader}, from {taken.file}:" + (f" {taken.trouble}" if taken.trouble else ""))
        show_table(to, ("field", "value"), [(name, value or "(nothing)") for name, value in taken.values.items()])


def _yes(flag: bool) -> str:
    return "yes" if flag else "no"

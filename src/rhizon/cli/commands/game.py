"""``rhizon game list``, ``show``, ``new``, ``check`` and ``try``."""

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, RhizonGroup, command
from rhizon.cli.completion import complete_games
from rhizon.cli.options import output_option
from rhizon.cli.output import Step, say
from rhizon.core.settings.apply import format_value
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.games.check import Taken
    from rhizon.app.games.new_and_try import TryResult
    from rhizon.core.model.game import GameDefinition
    from rhizon.core.model.setting import SettingDefinition, Stored

__all__ = ["game"]


@click.group("game", cls=RhizonGroup)
def game() -> None:
    """List, show, start, check or try game definitions."""


game.examples = (
    ("rhizon game show tarnholt", "settings, ports, loaders and launch of one game"),
    ("rhizon game new drift-mill", "start a definition of your own (rhizon help describe-a-game)"),
)


@command("list", group=game, examples=(("rhizon game list", "id, versions, loaders and file of each"),), tables=True)
def list_(call: Call) -> Answer:
    """List every game that Rhizon knows from here, and where its definition is."""
    from rhizon.app.games.check import list_games

    found = list_games(call.host)
    rows = [
        (one.id, one.title, ", ".join(one.versions), ", ".join(one.loaders), one.runtime, one.trouble or one.file)
        for one in found.games
    ]
    columns = ("id", "title", "versions", "loaders", "runtime", "file")
    return Answer(found, counted(len(rows), "game definition"), lambda to: call.table(to, columns, rows))


@command(
    "show",
    group=game,
    examples=(("rhizon game show tarnholt", "a game by its id, or a file such as ./drift-mill.game.toml"),),
    tables=True,
)
@click.argument("game", metavar="GAME|FILE", shell_complete=complete_games)
def show(call: Call, game: str) -> Answer:
    """Show one definition: its settings, ports, folders, loaders and how it is launched."""
    from rhizon.app.games.check import show_game

    found, file = show_game(call.host, game)
    return Answer(
        found,
        f"{found.title}: {found.summary} ({found.id}; {file})",
        lambda to: _show(to, found, call),
        next=(Step(("rhizon", "game", "check", str(file)), "what is wrong or missing in it"),),
    )


def _show(to: "Console", game: "GameDefinition", call: Call) -> None:
    """The tables of a definition."""
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
    call.table(to, ("loader", "title", "takes", "metadata"), rows)
    to.print()
    ports = [(one.role, "+".join(one.protocols), str(one.default), _places(one.store)) for one in game.ports]
    call.table(to, ("port", "protocols", "default", "stored in"), ports, right=("default",))
    to.print()
    settings = [
        (
            name,
            _allowed(one),
            "" if one.secret else format_value(one.default),
            one.meaning,
            _places(one.places),
        )
        for name, one in game.settings.items()
    ]
    columns = ("setting", "allowed", "default", "meaning", "stored in")
    call.table(to, columns, settings, prose=("allowed", "meaning"))


def _places(stores: "Iterable[Stored | None]") -> str:
    return ", ".join(f"{one.file}: {one.key}" for one in stores if one is not None)


def _allowed(setting: "SettingDefinition") -> str:
    return "a secret" if setting.secret else setting.allowed.removeprefix("a whole number from ")


@command(
    "check",
    group=game,
    examples=(
        ("rhizon game check drift-mill.game.toml", "every mistake, with its line"),
        ("rhizon game check drift-mill.game.toml --archive reed-1.0.jar", "what its rules read from an archive"),
    ),
    tables=True,
)
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--archive",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Show what the definition reads from this archive.",
)
def check(call: Call, file: Path, archive: Path | None) -> Answer:
    """Report what is wrong or missing in the definition FILE. Exit code 2 when it cannot be used."""
    from rhizon.app.games.check import check_game

    checked = check_game(file, archive)
    odd = len(checked.findings)
    text = f"{checked.title} ({checked.file}) is usable" + (f", {counted(odd, 'finding')}" if odd else "")
    return Answer(checked, text, lambda to: _taken(to, checked.taken, call), checked.findings)


def _taken(to: "Console", taken: "Iterable[Taken]", call: Call) -> None:
    """What each rule reads from an archive."""
    for one in taken:
        to.print()
        say(to, f"{one.loader}, from {one.file}:" + (f" {one.trouble}" if one.trouble else ""))
        rows = [(name, value or "(nothing)") for name, value in one.values.items()]
        call.table(to, ("field", "value"), rows, prose=("value",))


@command(
    "new",
    group=game,
    examples=(
        ("rhizon game new drift-mill", "write drift-mill.game.toml here, with a comment for each part"),
        ("rhizon game new drift-mill --from ./mill --log mill.log", "begin with what a real server's folder shows"),
    ),
    dry_run="Say which file would be written and write none.",
)
@click.argument("ident", metavar="ID")
@output_option("Write the definition to FILE or into a folder; by default ID.game.toml here.")
@click.option(
    "--from",
    "server",
    type=click.Path(path_type=Path),
    metavar="FOLDER",
    help="Begin with what the folder of a real server shows; nothing in it is changed.",
)
@click.option("--log", type=click.Path(path_type=Path), metavar="FILE", help="A log that this server wrote.")
def new(call: Call, ident: str, output: Path | None, server: Path | None, log: Path | None) -> Answer:
    """Write a definition of a game of your own: one to fill in, or one by a server that you set up by hand."""
    from rhizon.app.games.new_and_try import new_game

    made = new_game(ident, output, write=not call.dry_run, server=server, log=log)
    verb = (
        "would be written" if call.dry_run else "written; correct it" if server is not None else "written; fill it in"
    )

    def body(to: "Console") -> None:
        for line in made.found:
            say(to, line)
        if made.open:
            to.print()
            say(to, "look at:")
            for line in made.open:
                say(to, f"  {line}")

    steps = [Step(("rhizon", "game", "check", made.file), "what is wrong or missing")]
    if server is not None:
        steps.append(Step(("rhizon", "game", "try", made.file, "--server", str(server)), "compare it with that folder"))
    return Answer(made, f"{made.file} {verb}", body if server is not None else None, next=tuple(steps))


@command(
    "schema",
    group=game,
    examples=(("rhizon game schema", "write game.schema.json here"),),
    dry_run="Say which file would be written and write none.",
)
@output_option("Write it to FILE; by default game.schema.json here.")
def schema(call: Call, output: Path | None) -> Answer:
    """Write the JSON Schema by which an editor completes and checks a definition. The definition names it in its first
    line, as in #:schema ./game.schema.json."""
    from rhizon.app.games.check import write_schema

    made = write_schema(output or Path("game.schema.json"), write=not call.dry_run)
    verb = "would be written" if call.dry_run else "written"
    return Answer(made, f"{made.file} {verb}; name it in a definition's first line: {made.line}")


@command(
    "fetch",
    group=game,
    examples=(
        ("rhizon game fetch drift-mill --catalog https://harbour.example/", "see what it would run, and agree"),
        ("rhizon game fetch drift-mill --catalog ADDRESS --agree 3f9c01ab77d2", "for scripts: by its hash"),
    ),
    dry_run="Show what the definition would run and write none.",
)
@click.argument("ident", metavar="ID")
@click.option("--catalog", "catalogs", multiple=True, required=True, metavar="ADDRESS", help="A catalog that gives it.")
@click.option(
    "--agree", default="", metavar="HASH", help="Agree to the definition with this hash (12 letters or more)."
)
def fetch(call: Call, ident: str, catalogs: tuple[str, ...], agree: str) -> Answer:
    """Get the definition of a game from a catalog. It names programs that are run, so it counts only once you have
    seen them and agreed; one that has changed asks again."""
    from rhizon.app.games.fetch import FetchedGame, fetch_game

    def ask(found: FetchedGame) -> bool:
        for line in found.runs:
            click.echo(f"  {'new: ' if found.before and line in found.new else ''}{line}", err=True)
        return click.confirm(f"{found.title}, from {found.catalog}, would run these. Agree?", err=True)

    done = fetch_game(call.host, ident, catalogs, agree, ask if call.asks else None, write=not call.dry_run)
    if done.written:
        return Answer(done, f"{done.title}: agreed to; its definition is {done.written}")

    def body(to: "Console") -> None:
        for line in done.runs:
            say(to, f"{'new: ' if done.before and line in done.new else ''}{line}")

    again = ["rhizon", "game", "fetch", ident]
    for one in catalogs:
        again += ["--catalog", one]
    step = Step((*again, "--agree", done.sha256[:12]), "agree to these very bytes")
    text = f"{done.title}: not agreed to; {done.catalog} gives a definition that would run:"
    return Answer(done, text, body, next=(step,), exit_code=0 if call.dry_run else 1)


@command(
    "try",
    group=game,
    examples=(
        ("rhizon game try drift-mill.game.toml --server ./mill", "compare it with a real server's folder"),
        ("rhizon game try drift-mill.game.toml --server ./mill --log mill.log", "and with a log that it wrote"),
        ("rhizon game try drift-mill.game.toml --server ./mill --start", "start a copy of it on free ports"),
    ),
    tables=True,
)
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--server", type=click.Path(path_type=Path), required=True, metavar="FOLDER", help="Folder of a real server."
)
@click.option("--log", type=click.Path(path_type=Path), metavar="FILE", help="A log that the server wrote.")
@click.option("--archive", type=click.Path(path_type=Path), metavar="FILE", help="An archive of content for it.")
@click.option("--start", is_flag=True, help="Start a copy of the server on free ports, and stop it again.")
@click.option("--loader", metavar="ID", help="With --start: start it with this loader, by default without content.")
@click.option("--wait", type=click.FloatRange(1, 86400), metavar="SECONDS", help="With --start: how long it may take.")
def try_(
    call: Call,
    file: Path,
    server: Path,
    log: Path | None,
    archive: Path | None,
    start: bool,
    loader: str | None,
    wait: float | None,
) -> Answer:
    """Try the definition FILE on a real server: each setting and port with its present value, each folder, the launch
    line, which lines of a log each pattern matches, what an archive says. Nothing is changed; with --start a copy of it
    is started, whose files and ports are its own."""
    from rhizon.app.games.new_and_try import TryWishes, try_game

    wishes = TryWishes(log=log, archive=archive, start=start or loader is not None, loader=loader, wait=wait)
    tried = try_game(call.host, file, server, wishes, call.reporter)
    call.close()
    odd = tried.trouble
    text = f"{counted(odd, 'mismatch', 'mismatches')}" if odd else "everything matches"
    return Answer(tried, f"{tried.title}: {text}", lambda to: _tried(to, tried, call), exit_code=1 if odd else 0)


def _tried(to: "Console", tried: "TryResult", call: Call) -> None:
    """The tables of what was found in a real server."""
    rows = [(one.name, one.value or "-", one.stored, one.trouble) for one in (*tried.settings, *tried.ports)]
    call.table(to, ("setting or port", "now", "stored in", "problem"), rows, prose=("problem",))
    to.print()
    places = [(one.what, one.path, "yes" if one.there else "no") for one in tried.places]
    call.table(to, ("what", "path", "exists"), places)
    to.print()
    for name, words in tried.launch.items():
        say(to, f"{name} starts as: {' '.join(words)}")
    if tried.started is not None:
        to.print()
        one = tried.started
        if one.ready_seconds is None:
            say(to, f"a copy was started: {one.failure}")
        else:
            end = "stopped cleanly" if one.exit_code == 0 else f"ended with exit code {one.exit_code}"
            say(to, f"a copy was started: ready after {one.ready_seconds:.1f} s, {end}")
        for role, heard in one.listening.items():
            if not heard:
                say(to, f"nothing listens on the {role} port that it was given: is its place right?")
        if one.made:
            say(to, f"it made: {', '.join(one.made)}")
    if tried.patterns:
        to.print()
        matched = [(one.name, str(one.matches), ", ".join(map(str, one.lines)), one.first) for one in tried.patterns]
        call.table(to, ("pattern", "matches", "lines", "first match"), matched, right=("matches",))
    _taken(to, tried.taken, call)

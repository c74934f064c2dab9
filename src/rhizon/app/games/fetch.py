"""Definitions that a catalog gives to others: seen and agreed to by a person before anything uses one.

A definition names programs that are run. So one that comes from elsewhere is shown with all that it would run, and
counts only once somebody agreed to these very bytes; which these were is recorded beside it.
"""

import contextlib
from collections.abc import Callable
from pathlib import Path

import msgspec

from rhizon.adapters.files import make_folders, read_bytes, translated, write_atomic
from rhizon.adapters.games import ENDING, read_game
from rhizon.adapters.host import now
from rhizon.app.host import Host
from rhizon.core.errors import InputError, RhizonError, StateError, TrustError
from rhizon.core.model.documents import decode
from rhizon.core.model.game import GameDefinition
from rhizon.core.names import printable

__all__ = ["AskAgree", "FetchedGame", "fetch_game", "programs_of"]

AGREED = "agreed.json"  # beside the definitions of the config folder
LEAST_AGREED = 12  # letters of a hash by which one agrees

AskAgree = Callable[["FetchedGame"], bool]


class FetchedGame(msgspec.Struct, frozen=True, kw_only=True):
    """A definition of a catalog: its hash, what it would ``run``, what of that is new since one was agreed to, and
    where it was ``written`` ("" where nobody agreed)."""

    id: str
    title: str
    catalog: str
    sha256: str
    runs: tuple[str, ...]
    new: tuple[str, ...]
    before: str
    written: str


class _Agreed(msgspec.Struct, frozen=True):
    sha256: str
    catalog: str
    agreed_at: str


def programs_of(game: GameDefinition) -> tuple[str, ...]:
    """Every command that a definition would run, in words."""
    lines = [f"the server: {' '.join(game.command)}"]
    for name, loader in game.loaders.items():
        lines.append(f"with {name}: {' '.join(loader.command)}")
        if loader.installer is not None:
            lines.append(f"installer of {name}, if allowed: {' '.join(loader.installer.command)}")
        lines += [f"variable for {name}: {key}={value}" for key, value in loader.environment.items()]
    lines += [f"variable: {key}={value}" for key, value in game.environment.items()]
    if game.runtime.described is not None:
        rule = game.runtime.described
        lines += [f"runtime, to ask its version: {program} {' '.join(rule.probe)}" for program in rule.programs]
        lines += [f"runtime flag: {flag}" for flag in rule.flags]
        lines += [f"runtime variable: {key}={value}" for key, value in rule.environment.items()]
    return tuple(printable(line, 300) for line in dict.fromkeys(lines))


def fetch_game(
    host: Host, ident: str, addresses: tuple[str, ...], agree: str, ask: AskAgree | None, *, write: bool = True
) -> FetchedGame:
    """Gets a definition from the first catalog that gives it. It is written where ``agree`` begins its hash, or the
    person who is asked agrees. Raises InputError (no such definition), TrustError (other bytes than the catalog says,
    or than were agreed to), StateError (a definition of one's own is there)."""
    catalogs = host.open_catalogs(addresses, Path.cwd())
    found = catalogs.definition(ident)
    if found is None:
        raise InputError(
            "unknown-game",
            f"no catalog gives a definition of {printable(ident, 80)}",
            details=[f"searched: {', '.join(catalogs.addresses)}"],
            hint="A catalog gives those that lie beside its shelf.toml when it is built.",
        )
    catalog, shared, data = found
    game = decode(GameDefinition, data, f"{catalog}:{shared.path}")
    if game.id != ident:
        raise TrustError("game-misnamed", f"{catalog} gives {game.id} as {ident}", hint="Report it to its maintainer.")
    folder = host.places.config / "games"
    file = folder / f"{ident}{ENDING}"
    agreed = _agreed(folder)
    before = _required_ours(file, agreed.get(ident))
    runs = programs_of(game)
    made = FetchedGame(
        id=ident,
        title=game.title,
        catalog=catalog,
        sha256=shared.sha256,
        runs=runs,
        new=tuple(line for line in runs if line not in before),
        before=agreed[ident].sha256 if ident in agreed else "",
        written="",
    )
    if agree and (len(agree) < LEAST_AGREED or not shared.sha256.startswith(agree.lower())):
        raise TrustError(
            "not-agreed",
            f"the definition of {ident} is {shared.sha256}, not {printable(agree, 80)}",
            hint=f"See what it would run without --agree; then agree with at least {LEAST_AGREED} letters of its hash.",
        )
    if not write or (made.before == shared.sha256 and file.is_file()):
        return msgspec.structs.replace(made, written=str(file) if made.before == shared.sha256 else "")
    if not agree and (ask is None or not ask(made)):
        return made
    with translated("write the definition", file):
        make_folders(folder)
        write_atomic(file, data)
        agreed[ident] = _Agreed(shared.sha256, catalog, now())
        write_atomic(folder / AGREED, msgspec.json.format(msgspec.json.encode(agreed), indent=2) + b"\n")
    return msgspec.structs.replace(made, written=str(file))


def _agreed(folder: Path) -> dict[str, _Agreed]:
    with contextlib.suppress(OSError, msgspec.MsgspecError):
        return msgspec.json.decode((folder / AGREED).read_bytes(), type=dict[str, _Agreed])
    return {}


def _required_ours(file: Path, agreed: _Agreed | None) -> tuple[str, ...]:
    """What the definition that is there would run. Raises StateError for one that no catalog gave."""
    if not file.is_file():
        return ()
    if agreed is None:
        raise StateError(
            "file-in-the-way",
            f"{file} is a definition of your own",
            hint="Move it elsewhere, if the catalog's is to count.",
        )
    try:
        read_bytes(file, "game definition")
        return programs_of(read_game(file))
    except RhizonError:
        return ()

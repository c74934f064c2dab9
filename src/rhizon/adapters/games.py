"""Game definitions: beside the list, in the person's config folder, in the package; the nearest wins."""

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rhizon.adapters.files import read_bytes
from rhizon.core.errors import DocumentError, InputError, Mistake
from rhizon.core.model.decode import plain_toml
from rhizon.core.model.documents import decode
from rhizon.core.model.extend import extended
from rhizon.core.model.game import GameDefinition
from rhizon.core.names import printable, suggestions

if TYPE_CHECKING:
    from rhizon.core.model.game_fields import FieldTexts

__all__ = ["ENDING", "GAMES", "Games", "field_texts", "read_game"]

ENDING = ".game.toml"
LARGEST = 8 << 20
EXAMPLES = "Correct the file; every field with an example: rhizon help game-fields"
GAMES = Path(__file__).parents[1] / "games"


def read_game(file: Path, known: Callable[[str], Path | None] | None = None) -> GameDefinition:
    """One definition from its file. What it extends is looked for beside it, by ``known`` ids, and in the package.
    Raises DocumentError, whose mistakes have an example each, and InputError for one that is not there."""
    data = read_bytes(file, "game definition", LARGEST)
    try:
        return decode(GameDefinition, data, str(file), _base(file, data, known, (file.resolve(),)))
    except DocumentError as wrong:
        told = [_with_example(one) for one in wrong.mistakes]
        raise DocumentError(str(file), "game definition", told, hint=EXAMPLES) from None


def field_texts() -> "FieldTexts":
    """What every field means."""
    from rhizon.core.model.game_fields import read_field_texts

    return read_field_texts((GAMES / "fields.toml").read_bytes())


def _with_example(one: Mistake) -> Mistake:
    from rhizon.core.model.game_fields import example_of  # only where something is wrong

    example = example_of(field_texts(), one.place)
    right = f"{one.right}; for example: {example}" if example and example not in one.right else one.right
    return Mistake(one.place, one.value, right, one.line)


def _base(
    file: Path, data: bytes, known: Callable[[str], Path | None] | None, seen: tuple[Path, ...]
) -> dict[str, Any] | None:
    """What a definition extends, with all that this extends itself; None where it extends nothing."""
    if b"extends" not in data:
        return None
    named = plain_toml(data, str(file), "game definition").get("extends")
    if not isinstance(named, str) or not named:
        return None
    places = [file.parent / named, file.parent / f"{named}{ENDING}", GAMES / f"{named}{ENDING}"]
    if known is not None and (other := known(named)) is not None:
        places.insert(2, other)
    found = next((one for one in places if one.is_file() and one.resolve() != file.resolve()), None)
    if found is None or found.resolve() in seen:
        why = f"{named} extends it in turn" if found is not None else f"there is no definition {printable(named, 80)}"
        right = f"{why}; name an id, or a file beside this one"
        raise DocumentError(str(file), "game definition", [Mistake("extends", "", right)], hint=EXAMPLES)
    below = read_bytes(found, "game definition", LARGEST)
    base = plain_toml(below, str(found), "game definition")
    deeper = _base(found, below, known, (*seen, found.resolve()))
    return extended(deeper, base) if deeper is not None else base


class Games:
    """Definitions by id. A file is ``ID.game.toml``, so that only the one that is asked for is read."""

    def __init__(self, config: Path, beside: Path | None = None, lent: Path | None = None) -> None:
        """Those ``beside`` go before a person's own; those in ``lent`` are used where there is no other."""
        self._own = config / "games"
        self._folders = [folder for folder in (beside, config / "games", GAMES, lent) if folder is not None]

    def files(self) -> dict[str, Path]:
        """Every known id with the file that counts, by id."""
        return dict(sorted(dict(self._files()).items()))

    def _files(self) -> Iterator[tuple[str, Path]]:
        for folder in reversed(self._folders):  # a nearer one is later and so replaces
            for file in sorted(folder.glob(f"*{ENDING}")) if folder.is_dir() else ():
                yield file.name.removesuffix(ENDING), file

    def get(self, name: str) -> GameDefinition:
        """The definition; :class:`InputError` with near names when there is none."""
        files = self.files()
        if name not in files:
            guesses = suggestions(name, files)
            raise InputError(
                "unknown-game",
                f"there is no game definition for {name}",
                details=[f"similar: {', '.join(guesses)}"] if guesses else [f"known: {', '.join(files)}"],
                hint=f"Put a definition of your own into {self._own}; see all games: rhizon game list",
            )
        game = read_game(files[name], files.get)
        if game.id != name:
            raise InputError(
                "game-misnamed",
                f"{files[name]} defines {game.id}",
                hint=f"A definition's file is named after its id: {game.id}{ENDING}",
            )
        return game

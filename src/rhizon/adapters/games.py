"""Game definitions: beside the list, in the person's config folder, in the package; the nearest wins."""

from collections.abc import Iterator
from pathlib import Path

from rhizon.adapters.files import read_bytes
from rhizon.core.errors import InputError
from rhizon.core.model.documents import decode
from rhizon.core.model.game import GameDefinition
from rhizon.core.names import suggestions

__all__ = ["ENDING", "GAMES", "Games", "read_game"]

ENDING = ".game.toml"
GAMES = Path(__file__).parents[1] / "games"


def read_game(file: Path) -> GameDefinition:
    """One definition from its file."""
    return decode(GameDefinition, read_bytes(file, "game definition", 8 << 20), str(file))


class Games:
    """Definitions by id. A file is ``ID.game.toml``, so that only the one that is asked for is read."""

    def __init__(self, config: Path, beside: Path | None = None) -> None:
        self._folders = [folder for folder in (beside, config / "games", GAMES) if folder is not None]

    def files(self) -> dict[str, Path]:
        """Every known id with the file that counts, by id."""
        return dict(sorted(self._files()))

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
                hint=f"Put a definition of your own into {self._folders[-2]}; see all games: rhizon game list",
            )
        game = read_game(files[name])
        if game.id != name:
            raise InputError(
                "game-misnamed",
                f"{files[name]} defines {game.id}",
                hint=f"A definition's file is named after its id: {game.id}{ENDING}",
            )
        return game

"""What a game definition says of worlds: where they are, what goes with them, and what can be read from one."""

from collections.abc import Callable
from fnmatch import fnmatchcase

from rhizon.core.model.base import Id, Line, Strict
from rhizon.core.model.patterns import check_pattern
from rhizon.core.model.setting import NAME_WORD
from rhizon.core.names import RelPath, safe_path

__all__ = ["WorldInUse", "WorldRule", "WorldThings", "WorldVersion"]


class WorldThings(Strict, frozen=True, kw_only=True):
    """Where a world writes down what it holds of content: a text file in the world's folder (or beside the worlds,
    where ``{name}`` is in its name), and a pattern for its lines with the groups ``id`` (of the content), ``thing``
    and, where it is counted, ``count``."""

    file: RelPath
    pattern: Line

    def __post_init__(self) -> None:
        check_pattern(self.pattern, "pattern", ("id", "thing"))


class WorldVersion(Strict, frozen=True, kw_only=True):
    """Where a world says which version of the game wrote it last: a text file in the world's folder (or beside the
    worlds, where ``{name}`` is in its name; "" for a world that is one file), and a pattern for a line of it with the
    group ``version``."""

    file: Line = ""
    pattern: Line

    def __post_init__(self) -> None:
        if self.file:
            safe_path(self.file)
        check_pattern(self.pattern, "pattern", ("version",))


class WorldInUse(Strict, frozen=True, kw_only=True):
    """A file in the world's folder that a server makes while it has the world open and removes at its end. A pattern
    with the group ``pid`` finds the number of its process; ``refuses`` says that no server starts while the file is
    there."""

    file: RelPath
    pattern: Line = ""
    refuses: bool = True

    def __post_init__(self) -> None:
        check_pattern(self.pattern, "pattern", ("pid",) if self.pattern else ())


class WorldRule(Strict, frozen=True, kw_only=True):
    """The ``folder`` that holds worlds ("" for the server's own, where ``names`` says which there are worlds: a pattern
    with ``*``), the setting that names the one in use, and what can be read from a world. ``entry`` is how a world of a
    name is called there: a folder, or with ``single_file`` one file, such as ``{name}.db``. ``also`` are more folders
    and files that are backed up and restored with the worlds and are part of no other change; the last part of such a
    path may have ``*``.
    ``template_setting`` names the content of kind ``template`` that a new world is copied from; ``seed_setting`` is
    drawn by Rhizon where no one gives it, so that it is known later. ``required`` are files that every world has."""

    folder: Line
    entry: Line = "{name}"
    single_file: bool = False
    names: Line = "*"
    also: tuple[Line, ...] = ()
    name_setting: Id = "world_name"
    template_setting: Id = "world_template"
    seed_setting: Id = "seed"
    things: WorldThings | None = None
    version: WorldVersion | None = None
    required: tuple[RelPath, ...] = ()
    in_use: WorldInUse | None = None

    def __post_init__(self) -> None:
        if NAME_WORD not in self.entry or "/" in self.entry:
            raise ValueError(f"entry: {self.entry!r}: `{NAME_WORD}` is required, and no /")
        if not self.folder and self.names == "*":
            raise ValueError("names: a pattern is required for worlds in the server's own folder")
        for path in (self.folder, self.names, *self.also):
            if path == self.folder and not path:
                continue
            folder, _, name = path.rpartition("/")
            if (
                "*" in folder
                or not name
                or (path == self.folder and "*" in path)
                or (path in self.also and not name.strip("*"))
            ):
                raise ValueError(f"{path!r}: only the last part of a path may have a *, beside other letters")
            safe_path(path.replace("*", "x"))
        if self.single_file and self.required:
            raise ValueError("required: a world that is one file has no files in it")

    @property
    def title(self) -> str:
        """The folder as messages name it."""
        return self.folder or "the server's folder"

    def path(self, name: str) -> str:
        """Where the world of a name is."""
        return self._in_folder(self.entry.replace(NAME_WORD, name))

    def name_of(self, entry: str) -> str | None:
        """The name of the world that something in the folder is; None for what is none."""
        head, _, tail = self.entry.partition(NAME_WORD)
        if not fnmatchcase(entry, self.names) or not (entry.startswith(head) and entry.endswith(tail)):
            return None
        return entry[len(head) : len(entry) - len(tail)] or None

    def unit(self, path: str, fold: Callable[[str], str] = str) -> str | None:
        """The world, or other thing that goes with worlds, that a path is or is in; None for any other path. ``fold``
        makes names alike that some systems do not tell apart."""
        for place in self.places:
            around = place.rpartition("/")[0]
            depth = around.count("/") + 1 if around else 0
            parts = path.split("/")
            head = "/".join(parts[: depth + 1])
            if len(parts) > depth and fnmatchcase(fold(head), fold(place)):
                return head
        return None

    def covers(self, path: str, fold: Callable[[str], str] = str) -> bool:
        """Whether a path is a world's, or the folder of worlds itself."""
        return fold(path) == fold(self.folder) or self.unit(path, fold) is not None

    @property
    def places(self) -> tuple[str, ...]:
        """Patterns for all worlds and what goes with them."""
        return (self._in_folder(self.names), *self.also)

    def _in_folder(self, entry: str) -> str:
        return f"{self.folder}/{entry}" if self.folder else entry

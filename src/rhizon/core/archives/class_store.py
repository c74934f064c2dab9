"""Archives of a set that are open, and classes of them that are parsed: the last that were wanted, within bounds."""

from collections import OrderedDict
from collections.abc import Callable
from typing import Protocol

from rhizon.core.archives.classfile import ClassFile, ClassFileError, parse_class

__all__ = ["ClassStore", "Classes"]

MOST_PARSED = 4_000  # classes that are held parsed
MOST_LISTED = 60_000  # classes of the archives that are held open, but for the last one


class Classes(Protocol):
    """The classes of one archive and of those inside it, by name with slashes."""

    def __len__(self) -> int: ...
    def __contains__(self, name: object) -> bool: ...
    def read_if_whole(self, name: str) -> bytes | None: ...


class ClassStore:
    """``open_classes`` gives the classes of an archive by its file name, None where it cannot be read any more."""

    def __init__(self, open_classes: Callable[[str], Classes | None]) -> None:
        self._open = open_classes
        self._opened: OrderedDict[str, Classes | None] = OrderedDict()
        self._listed = 0
        self._parsed: OrderedDict[tuple[str, str], ClassFile | None] = OrderedDict()

    def classes(self, archive: str) -> Classes | None:
        """The classes of an archive."""
        if archive in self._opened:
            self._opened.move_to_end(archive)
            return self._opened[archive]
        found = self._opened[archive] = self._open(archive)
        self._listed += _count(found)
        while self._listed > MOST_LISTED and len(self._opened) > 1:
            self._listed -= _count(self._opened.popitem(last=False)[1])
        return found

    def parsed(self, archive: str, class_name: str) -> ClassFile | None:
        """A class (with slashes) of an archive; None for one that is not there, damaged or not understood."""
        key = (archive, class_name)
        if key in self._parsed:
            self._parsed.move_to_end(key)
            return self._parsed[key]
        classes = self.classes(archive)
        data = classes.read_if_whole(class_name) if classes is not None else None
        try:
            found = parse_class(data) if data is not None else None
        except ClassFileError:
            found = None
        self._parsed[key] = found
        if len(self._parsed) > MOST_PARSED:
            self._parsed.popitem(last=False)
        return found


def _count(classes: Classes | None) -> int:
    return len(classes) if classes is not None else 0

"""What only a client has, and how its names are spelled in class files."""

from collections.abc import Iterable, Mapping

from rhizon.core.archives.classfile import Ref
from rhizon.core.archives.screen import SCREEN_CLASSES, needs_screen

__all__ = ["Namespaces"]


class Namespaces:
    """Code that only a client has: packages with dots, the annotation types that mark more of it, and packages of the
    runtime of which a machine without a screen cannot use all (``platform``)."""

    def __init__(
        self,
        packages: Iterable[str],
        marks: Iterable[str] = (),
        platform: Iterable[str] = (),
        side_checks: Mapping[str, bool] | None = None,
    ) -> None:
        # what methods answer on a server, by class with slashes and name
        self.side_checks = {_split(one): answer for one, answer in (side_checks or {}).items()}
        self._platform = tuple(one.replace(".", "/") + "/" for one in platform)
        self._heads = tuple(one.replace(".", "/") + "/" for one in packages)
        self._dotted = tuple(one + "." for one in packages)
        self.marks = frozenset(one.replace(".", "/") for one in marks)
        # what to look for in the bytes of a class before it is parsed
        words = (*self._heads, *self._dotted, *(f"L{one};" for one in self.marks))
        self.needles = tuple(one.encode() for one in words)
        # of a name that is put together: the package's first word and its last part, both somewhere in one class
        named = [one.rstrip(".") for one in self._dotted if one.count(".") > 1]
        self._halves = tuple((one.partition(".")[0].encode(), f".{one.rpartition('.')[2]}".encode()) for one in named)
        self._platform_heads = tuple(one.encode() for one in self._platform)

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing that only a client has."""
        return not (self.needles or self._platform)

    def named_in(self, data: bytes) -> bool:
        """Whether the bytes of a class may name such code: never False where they do."""
        if any(needle in data for needle in self.needles):
            return True
        if any(head in data for head in self._platform_heads) and SCREEN_CLASSES.search(data):
            return True
        return any(last in data and first in data for first, last in self._halves)

    def counted_in(self, data: bytes) -> list[str]:
        """The packages of client code, and of the runtime's desktop, that the bytes of a class name."""
        client = (head for head in self._heads if head.encode() in data or head.replace("/", ".").encode() in data)
        desktop = (head for head in self._platform if head.encode() in data)
        return [head.rstrip("/").replace("/", ".") for head in (*client, *desktop)]

    def has(self, name: str) -> bool:
        """Whether a class (with slashes) is in a client-only package."""
        return name.startswith(self._heads)

    def wants_screen(self, ref: Ref) -> bool:
        """Whether a call or a new object of the runtime's own needs a screen."""
        return ref.kind == "call" and ref.owner.startswith(self._platform) and needs_screen(ref.owner, ref.name)

    def part_of(self, text: str) -> str:
        """The client-only package of whose name a string holds the last part, such as ``.client``; else nothing."""
        named = (one.rstrip(".") for one in self._dotted)
        return next((one for one in named if "." in one and f".{one.rpartition('.')[2]}" in text), "")

    def spelled(self, text: str) -> str:
        """The class that a string in code names, with slashes, when it is in a client-only package; else nothing."""
        if text.startswith(self._dotted):
            return text.replace(".", "/")
        return text if text.startswith(self._heads) else ""


def _split(method: str) -> tuple[str, str]:
    owner, _, name = method.rpartition(".")
    return owner.replace(".", "/"), name

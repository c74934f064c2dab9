"""References of a server's content that nothing on the server satisfies: built for another version of it.

Code that can be reached from the entry classes is followed over the whole class path: content, loader and server. A
member is looked for as the virtual machine resolves it (JVMS 5.4.3.2 to 5.4.3.4), in the class that is named and in all
that it extends and implements; where one of these is the runtime's own, nothing is said. A class that is missing counts
where others of its package, or of the server's own packages, are here: else it is most often an optional library that
the code asks for first.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from rhizon.core.archives.classes import ArchiveClasses
from rhizon.core.archives.classfile import ClassFile, ClassFileError, Ref, parse_class
from rhizon.core.archives.evidence import NOT_LINKED, VisibleCode, follow_references
from rhizon.core.archives.namespaces import Namespaces
from rhizon.core.finding import Finding
from rhizon.core.names import printable

__all__ = ["content_linkage"]

_RUNTIME = (
    "java/",
    "javax/",
    "jdk/",
    "sun/",
    "com/sun/",
    "org/w3c/dom/",
    "org/xml/sax/",
    "org/ietf/jgss/",
    "netscape/",
)
# What every object has (java.lang.Object), arrays and interfaces included.
_OF_OBJECT = frozenset(
    ("getClass", "hashCode", "equals", "clone", "toString", "notify", "notifyAll", "wait", "finalize", "<init>")
)
_WIDE_ROOTS = ("com", "org", "net", "io", "de", "me", "dev", "eu", "uk", "fr")
_MOST_SHOWN = 3


class _Lack(NamedTuple):
    """Something that code of ``archive`` names and that is not there, and how the code is come to."""

    archive: str
    what: str
    holder: str
    chain: tuple[str, ...]


def content_linkage(
    content: Mapping[str, ArchiveClasses],
    entries: Mapping[str, Sequence[str]],
    beside: Mapping[str, ArchiveClasses],
    client: Namespaces,
) -> list[Finding]:
    """Findings for content archives (by file name, with their entry classes) beside the server's and loader's own."""
    path = _Path(content, beside)
    lacks: dict[tuple[str, str], _Lack] = {}

    def visit(owner: str, ref: Ref, came: tuple[str, ...]) -> None:
        archive = path.archive_of(owner)
        if archive not in content or not NOT_LINKED.isdisjoint(ref.caught) or ref.owner.startswith(_RUNTIME):
            return
        what, holder = path.lack(ref, client)
        if what:
            lacks.setdefault((archive, what), _Lack(archive, what, holder, came))

    providers: dict[str, list[str]] = {}
    for classes in content.values():
        for service, named in classes.providers.items():
            providers.setdefault(service, []).extend(named)
    starts = [entry for name in sorted(entries) for entry in entries[name] if name in content]
    follow_references(VisibleCode(path.read_content, providers), starts, client, visit)
    return list(_findings(lacks.values()))


def _findings(lacks: Iterable[_Lack]) -> Iterator[Finding]:
    """One finding for an archive and what it does not find its references in."""
    groups: dict[tuple[str, str], list[_Lack]] = {}
    for lack in lacks:
        groups.setdefault((lack.archive, lack.holder), []).append(lack)
    for (archive, holder), group in sorted(groups.items()):
        shown = ", ".join(one.what for one in group[:_MOST_SHOWN])
        more = f" and {len(group) - _MOST_SHOWN} more" if len(group) > _MOST_SHOWN else ""
        yield Finding(
            code="built-for-another-version",
            severity="warning",
            subject=printable(archive, 120),
            what=f"it uses {shown}{more}, which {holder} does not have: {' → '.join(group[0].chain)}",
            remedy=f"Get a release of it that was built for this {holder}, or the {holder} that it was built for.",
        )


class _Path:
    """The class path of a server."""

    def __init__(self, content: Mapping[str, ArchiveClasses], beside: Mapping[str, ArchiveClasses]) -> None:
        self._all = {**beside, **content}
        self._content = content
        self._owner: dict[str, str] = {}
        for name in sorted(self._all, key=lambda one: one in content):
            for class_name in self._all[name].where:
                self._owner.setdefault(class_name, name)
        self._packages: dict[str, str] = {}
        for class_name, name in self._owner.items():
            self._packages.setdefault(class_name.rpartition("/")[0], name)
        self._roots = {_root(one): name for name in beside for one in self._all[name].where if "/" in one}
        self._parsed: dict[str, ClassFile | None] = {}

    def archive_of(self, class_name: str) -> str:
        """The archive that has a class; empty for none."""
        return self._owner.get(class_name, "")

    def read_content(self, class_name: str) -> bytes | None:
        """The bytes of a class of the content."""
        name = self._owner.get(class_name)
        return self._content[name].read_if_whole(class_name) if name is not None and name in self._content else None

    def _get(self, class_name: str) -> ClassFile | None:
        if class_name not in self._parsed:
            name = self._owner.get(class_name)
            data = self._all[name].read_if_whole(class_name) if name is not None else None
            try:
                self._parsed[class_name] = parse_class(data) if data is not None else None
            except ClassFileError:
                self._parsed[class_name] = None
        return self._parsed[class_name]

    def lack(self, ref: Ref, client: Namespaces) -> tuple[str, str]:
        """What a reference does not find, and the archive that should have it; nothing where it may find it."""
        if ref.kind in ("string", "type", "catch") or not ref.owner:
            return "", ""
        if ref.owner not in self._owner:
            holder = self._packages.get(ref.owner.rpartition("/")[0]) or self._roots.get(_root(ref.owner), "")
            return ("" if client.has(ref.owner) or not holder else ref.owner.replace("/", ".")), holder
        if ref.kind in ("call", "field") and self._has_member(ref) is False:
            owner = ref.owner.replace("/", ".")
            named = f"new {owner}" if ref.name == "<init>" else f"{owner}.{ref.name}"
            return named, self._owner[ref.owner]
        return "", ""

    def _has_member(self, ref: Ref) -> bool | None:
        """Whether the class or one that it extends or implements has the member; None where that is not known."""
        waiting, seen, known = [ref.owner], {ref.owner}, True
        while waiting:
            parsed = self._get(waiting.pop())
            if parsed is None:
                known = False
                continue
            members: Sequence[tuple[str, str]] = [
                (one.name, one.descriptor) for one in (parsed.methods if ref.kind == "call" else parsed.fields)
            ]
            if (ref.name, ref.descriptor) in members:
                return True
            for other in (parsed.super_name, *parsed.interfaces):
                if other in ("", "java/lang/Object"):
                    continue
                if other not in seen:
                    seen.add(other)
                    waiting.append(other)
            if ref.name == "<init>":
                break  # constructors are not inherited
        if not known or (ref.kind == "call" and ref.name in _OF_OBJECT and ref.name != "<init>"):
            return None
        return False


def _root(class_name: str) -> str:
    """The part of a package name that is its maker's: the first word, or two where the first is a domain's ending."""
    first, _, rest = class_name.partition("/")
    return f"{first}/{rest.partition('/')[0]}" if first in _WIDE_ROOTS and "/" in rest else first

"""Whether a loader can start an entry class at all, whatever it refers to.

A loader that makes entry classes by their public constructor without parameters and casts them to a type of its own
(the metadata rule says which) refuses one that is not public, abstract, without that constructor, or of another type. A
class file under a name that is not its own (JVMS 5.3.5), of a preview release (JVMS 4.1), or in a package that Java
keeps for itself is refused by the virtual machine whatever the loader does.
"""

from collections import deque
from collections.abc import Callable

from rhizon.core.archives.bytecode import check_methods
from rhizon.core.archives.classfile import (
    ABSTRACT,
    INTERFACE,
    PUBLIC,
    ClassFile,
    ClassFileError,
    java_major,
    parse_class,
)

__all__ = ["why_unusable"]

_OBJECT = "java/lang/Object"
_PREVIEW = 0xFFFF  # as the minor version


def why_unusable(entry: str, entry_type: str, read: Callable[[str], bytes | None]) -> tuple[str, str] | None:
    """The code of a finding and what is wrong with an entry class; None for one that can be started.

    ``entry`` and ``entry_type`` (empty: unknown) have dots; ``read`` gives the bytes of a class by its name with
    slashes, None for one that is not on the class path.
    """
    name = entry.replace(".", "/")
    data = read(name)
    if data is None:
        return "entry-missing", f"its metadata names the entry class {entry}, which is not in it"
    try:
        parsed = parse_class(data)
        check_methods(parsed)
    except ClassFileError as wrong:
        return "class-broken", f"no runtime can load its entry class {entry}: {wrong}"
    why = _refused_by_java(name, parsed, data) or (_refused_by_loader(parsed, entry_type, read) if entry_type else "")
    return ("entry-unusable", f"no loader can start its entry class {entry}: {why}") if why else None


def _refused_by_java(name: str, parsed: ClassFile, data: bytes) -> str:
    if parsed.name != name:
        return f"the class in that file is named {parsed.name.replace('/', '.')}"
    if int.from_bytes(data[4:6], "big") == _PREVIEW and parsed.major >= 56:
        return f"it was compiled for preview features of Java {java_major(parsed.major)}, which only that release runs"
    return "Java allows no class of others in the package java" if name.startswith("java/") else ""


def _refused_by_loader(parsed: ClassFile, entry_type: str, read: Callable[[str], bytes | None]) -> str:
    if parsed.access & (ABSTRACT | INTERFACE):
        return "it is abstract, so that no object of it can be made"
    if not parsed.access & PUBLIC:
        return "it is not public"
    made = [one for one in parsed.methods if one.name == "<init>" and one.descriptor == "()V"]
    if not made:
        return "it has no constructor without parameters"
    if not made[0].access & PUBLIC:
        return "its constructor without parameters is not public"
    return f"it is not of the type {entry_type}" if _is_of_type(parsed, entry_type, read) is False else ""


def _is_of_type(parsed: ClassFile, wanted: str, read: Callable[[str], bytes | None]) -> bool | None:
    """Whether a class extends or implements a type; None where one of its super types is not known here."""
    known = True
    waiting = deque([parsed])
    seen: set[str] = set()
    while waiting:
        one = waiting.popleft()
        for name in (one.super_name, *one.interfaces):
            if name.replace("/", ".") == wanted:
                return True
            if name in seen or name in ("", _OBJECT):
                continue
            seen.add(name)
            data = read(name)
            if data is None:
                known = known and name.startswith(("java/", "javax/"))
                continue
            try:
                waiting.append(parse_class(data))
            except ClassFileError:
                known = False
    return False if known else None

"""Assemblies of one server together: what each asks of the others, and whether it is there.

A runtime loads a type with its base type and its interfaces (ECMA-335, partition II.10.3 and II.12.2); a loader that
asks an assembly for its types fails when one of these is missing, so that is certain. What only the body of a method
names is looked for when the method is compiled, so it is possible. The runtime's own assemblies are taken as present.
"""

from collections.abc import Iterator, Mapping, Sequence
from typing import Literal

from rhizon.core.archives.assembly import Assembly
from rhizon.core.archives.assembly_types import AssemblyType
from rhizon.core.finding import Finding

__all__ = ["assemblies_together"]

_OF_THE_RUNTIME = ("mscorlib", "netstandard", "System", "WindowsBase", "Microsoft.CSharp", "Microsoft.VisualBasic")
# Native libraries that the system or the runtime brings, or Mono maps to such.
_OF_THE_SYSTEM = ("libc", "libm.", "libdl", "libpthread", "__internal", "kernel32", "user32", "advapi32", "msvcrt")
_OBJECT_MEMBERS = ("ToString/0", "Equals/1", "GetHashCode/0", "GetType/0", "Finalize/0", "MemberwiseClone/0", ".ctor/0")
_MOST_SHOWN = 3

Severity = Literal["error", "warning"]


def assemblies_together(
    assemblies: Mapping[str, Assembly],
    *,
    beside: Sequence[Assembly] = (),
    whole: bool = False,
    client: Sequence[str] = (),
    entry_type: str = "",
) -> Iterator[Finding]:
    """Findings over a server's assemblies by file name.

    ``beside`` are those of the server and its loader; ``whole``: with them everything is here that is not the
    runtime's, so that what is named and not here is missing. ``client`` are assemblies that only the game's client has;
    ``entry_type`` is what the loader makes an object of (a full name), by its constructor without arguments.
    """
    here = {one.name: one for one in (*beside, *assemblies.values())}
    for file, one in sorted(assemblies.items()):
        yield from _versions(file, one, here)
        missing = {asked.name for asked in one.references if _is_missing(asked.name, here, client, whole=whole)}
        yield from _missing(file, one, missing, client)
        yield from _types(file, one, here)
        yield from _members(file, one, here)
        yield from _entries(file, one, entry_type)
        yield from _native(file, one)


def _is_missing(name: str, here: Mapping[str, Assembly], client: Sequence[str], *, whole: bool) -> bool:
    if name in here:
        return False
    return name in client or (whole and not (name in _OF_THE_RUNTIME or name.startswith(("System.", "Mono."))))


def _versions(file: str, one: Assembly, here: Mapping[str, Assembly]) -> Iterator[Finding]:
    """References to another major version of an assembly that is here, or to a later version of it: that one may have
    all that is used, which is looked at on its own."""
    for asked in one.references:
        other = here.get(asked.name)
        if other is None or other is one:
            continue
        if asked.signed_by and asked.signed_by != other.signed_by:
            yield Finding(
                code="assembly-token",
                severity="note",
                subject=file,
                what=f"it asks for {asked.name} signed with {asked.signed_by}, but "
                + (
                    f"the one that is present is signed with {other.signed_by}"
                    if other.signed_by
                    else "it is not signed"
                ),
                remedy="Nothing on Mono, which takes it; other runtimes refuse it.",
            )
        wanted, present = _numbers(asked.version), _numbers(other.version)
        if wanted[0] != present[0] or wanted > present:
            yield Finding(
                code="assembly-version",
                severity="error" if wanted[0] != present[0] else "note",
                subject=file,
                what=f"it was built against {asked.name} {asked.version}, but {other.version} is present",
                remedy="Get a release built for this version, or that version; this one may fail when it is loaded.",
            )


def _numbers(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split(".") if part.isdecimal()) or (0,)


def _missing(file: str, one: Assembly, missing: set[str], client: Sequence[str]) -> Iterator[Finding]:
    """Assemblies that it needs and that are not here: for certain where one of its types is made of theirs."""
    for name in sorted(missing):
        made = [
            kind.name for kind in one.types if any(_assembly(part) == name for part in (kind.base, *kind.interfaces))
        ]
        of = "which no server has" if name in client else "which is not here"
        if not made and one.follows and name not in {use.assembly for use in one.uses}:
            continue  # only code that no loader comes to names it
        how = f"{made[0]} extends or implements a type of it" if made else "its code names it"
        yield Finding(
            code="client-only-code" if name in client and made else "assembly-missing",
            severity="error" if made else "warning",
            subject=file,
            what=f"it needs the assembly {name}, {of}: {how}",
            remedy="Leave it out of the server." if name in client else "Add the assembly that it needs.",
        )


def _types(file: str, one: Assembly, here: Mapping[str, Assembly]) -> Iterator[Finding]:
    """Base types and interfaces that the assembly that should have them does not have, and methods that an interface
    asks for and the type lacks: loading the type fails."""
    for kind in one.types:
        for part in (kind.base, *kind.interfaces):
            other = here.get(_assembly(part))
            if other is not None and _type(other, part.partition("@")[0]) is None:
                yield _wrong(file, "error", f"{kind.name} is made of {part.partition('@')[0]}", other)
        if kind.abstract or kind.interface:
            continue
        for part in kind.interfaces:
            other = here.get(_assembly(part))
            wanted = _type(other, part.partition("@")[0]) if other is not None else None
            lacks = [
                name for name in (wanted.members if wanted else ()) if "/" in name and not _has(one, kind, name, here)
            ]
            if other is not None and lacks:
                yield _wrong(
                    file, "error", f"{kind.name} has no {lacks[0].partition('/')[0]} as asked for there", other
                )


def _has(one: Assembly, kind: AssemblyType, member: str, here: Mapping[str, Assembly]) -> bool:
    """Whether a type has a member, itself, under an interface's name, or by its base; True where that is not known."""
    for _ in range(50):
        if any(own == member or own.endswith(f".{member}") for own in kind.members):
            return True
        owner = here.get(_assembly(kind.base)) if "@" in kind.base else one
        if owner is None or not kind.base:
            return member in _OBJECT_MEMBERS or kind.base.partition("@")[0] not in ("System.Object", "")
        base = _type(owner, kind.base.partition("@")[0])
        if base is None:
            return True
        one, kind = owner, base
    return True


def _members(file: str, one: Assembly, here: Mapping[str, Assembly]) -> Iterator[Finding]:
    """Types and members that its code names and that the assembly which is here does not have."""
    for name in sorted({use.assembly for use in one.uses}):
        other = here.get(name)
        if other is None:
            continue
        lacks = []
        for use in one.uses:
            if use.assembly != name:
                continue
            kind = _type(other, use.type)
            if kind is None:
                lacks.append(use.type)
            elif use.member and not _has(other, kind, use.member, here):
                lacks.append(f"{use.type}.{use.member.partition('/')[0]}")
        if lacks:
            shown = ", ".join(list(dict.fromkeys(lacks))[:_MOST_SHOWN])
            yield _wrong(file, "warning", f"it uses {shown}", other)


def _wrong(file: str, severity: Severity, what: str, other: Assembly) -> Finding:
    return Finding(
        code="assembly-member-missing",
        severity=severity,
        subject=file,
        what=f"{what}, which {other.name} {other.version} does not have",
        remedy=f"Get a release of it that was built for {other.name} {other.version}.",
    )


def _entries(file: str, one: Assembly, entry_type: str) -> Iterator[Finding]:
    """Types of the loader's kind that it cannot make an object of."""
    for kind in one.types:
        if entry_type not in [part.partition("@")[0] for part in kind.interfaces] or kind.interface:
            continue
        why = "it is abstract" if kind.abstract else "" if kind.open_constructor else "it has no public constructor"
        if why:
            yield Finding(
                code="entry-unusable",
                severity="error",
                subject=file,
                what=f"no loader can make an object of {kind.name}: {why}",
                remedy="Report it to the author.",
            )


def _native(file: str, one: Assembly) -> Iterator[Finding]:
    libraries = [name for name in one.libraries if not name.lower().startswith(_OF_THE_SYSTEM)]
    if one.mixed or one.libraries:
        held = "it holds native code" if one.mixed else f"it calls native libraries: {', '.join(one.libraries[:4])}"
        yield Finding(
            code="native-code",
            severity="warning" if one.mixed or libraries else "note",
            subject=file,
            what=held,
            remedy="It runs only on the systems it was built for.",
        )


def _assembly(part: str) -> str:
    return part.partition("@")[2]


def _type(assembly: Assembly, name: str) -> AssemblyType | None:
    return next((kind for kind in assembly.types if kind.name == name), None)

"""What several archives are to each other when one server gets them all."""

from array import array
from collections.abc import Iterable, Iterator, Mapping, Sequence

from rhizon.core.archives.scan import Scanned
from rhizon.core.finding import Finding
from rhizon.core.model.game import GameDefinition
from rhizon.core.version import Version

__all__ = ["together"]

# Four bytes can be the same by chance; several classes of two archives are not.
LEAST_SHARED_CLASSES = 3


def together(archives: Mapping[str, Scanned], games: Mapping[str, GameDefinition]) -> list[Finding]:
    """Findings over archives by file name: the same id, classes or library twice, what is missing, mixed kinds."""
    names = sorted(archives)
    pairs = [(name, archives[name]) for name in names]
    return [
        *_same_id(pairs),
        *_same_classes(pairs),
        *_embedded_twice(pairs),
        *_missing(pairs),
        *_look_alike(pairs),
        *_mixed(pairs, games),
    ]


Pairs = Sequence[tuple[str, Scanned]]


def _same_id(pairs: Pairs) -> Iterator[Finding]:
    """Archives that contain the same item."""
    by_id: dict[str, list[str]] = {}
    for name, one in pairs:
        if one.facts is not None:
            by_id.setdefault(one.facts.id, []).append(name)
    for ident, files in by_id.items():
        if len(files) > 1:
            yield Finding(
                code="same-id",
                severity="error",
                subject=ident,
                what=f"{len(files)} archives contain this item: {', '.join(files[:5])}",
                remedy="Keep one of them; a loader refuses two or loads either.",
            )


def _same_classes(pairs: Pairs) -> Iterator[Finding]:
    """Every class that two archives bring counts once for the two."""
    packages = {name: frozenset(array("I", one.code.packages)) for name, one in pairs}
    twice = _in_several(packages.values())
    # only archives that share a package are looked at class by class: there are few, and classes are many
    own = {name: frozenset(array("I", one.code.names)) for name, one in pairs if packages[name] & twice}
    twice = _in_several(own.values())
    first: dict[int, str] = {}
    shared: dict[tuple[str, str], int] = {}
    for name, classes in own.items():
        for one_class in classes & twice:
            other = first.setdefault(one_class, name)
            if other != name:
                shared[other, name] = shared.get((other, name), 0) + 1
    ids = {name: one.facts.id if one.facts is not None else name for name, one in pairs}
    for (left, right), count in shared.items():
        if count >= LEAST_SHARED_CLASSES and ids[left] != ids[right]:
            yield Finding(
                code="same-classes",
                severity="warning",
                subject=right,
                what=f"{count} of its classes are also in {left}",
                remedy="Both use the one that is found first. If that fails, remove one of them.",
            )


def _in_several(sets: Iterable[frozenset[int]]) -> set[int]:
    everything: set[int] = set()
    twice: set[int] = set()
    for one in sets:
        twice |= everything & one
        everything |= one
    return twice


def _embedded_twice(pairs: Pairs) -> Iterator[Finding]:
    """Libraries that are embedded in different versions."""
    seen: dict[str, dict[str, str]] = {}
    for name, one in pairs:
        for inner in one.embedded:
            if inner.id is not None and inner.version is not None:
                seen.setdefault(inner.id, {}).setdefault(inner.version.text, name)
    for ident, versions in seen.items():
        if len(versions) > 1:
            told = ", ".join(f"{version} in {name}" for version, name in versions.items())
            yield Finding(
                code="embedded-versions",
                severity="warning",
                subject=ident,
                what=f"the library is embedded in different versions: {told}",
                remedy="A loader uses one of them, mostly the newest. If that fails, report it to the authors.",
            )


def _missing(pairs: Pairs) -> Iterator[Finding]:
    """Requirements that none of the archives satisfies."""
    own: dict[str, set[Version]] = {}
    stand_ins: dict[str, set[Version]] = {}
    for _, one in pairs:
        if one.facts is not None:
            own.setdefault(one.facts.id, set()).add(one.facts.version)
            for given in one.facts.provides:
                stand_ins.setdefault(given.id, set()).add(given.version)
        for inner in one.embedded:
            if inner.id is not None and inner.version is not None:
                stand_ins.setdefault(inner.id, set()).add(inner.version)
    wanting: dict[str, list[str]] = {}
    for _, one in pairs:
        for need in one.facts.requires if one.facts is not None else ():
            assert one.facts is not None
            here = {other: own.get(other.id, set()) | stand_ins.get(other.id, set()) for other in need.alternatives}
            if not any(other.range.admits(version) for other, versions in here.items() for version in versions):
                names = " or ".join(other.id for other in here)
                ranges = " or ".join(other.range.text for other in here)
                wanting.setdefault(names, []).append(f"{one.facts.id} {one.facts.version} ({ranges})")
    for names, asking in sorted(wanting.items()):
        versions = sorted({version for name in names.split(" or ") for version in own.get(name, ())})
        there = f"only {', '.join(map(str, versions))} is present" if versions else "it is missing"
        yield Finding(
            code="dependency-missing",
            severity="error",
            subject=names,
            what=f"{there}; needed by {', '.join(asking)}",
            remedy="Add it, or provision with a catalog that has it.",
        )


def _look_alike(pairs: Pairs) -> Iterator[Finding]:
    """Items with nearly the same id."""
    seen: dict[str, str] = {}
    for _, one in pairs:
        if one.facts is not None:
            key = "".join(c for c in one.facts.id if c.isalnum())
            other = seen.setdefault(key, one.facts.id)
            if other != one.facts.id:
                yield Finding(
                    code="look-alike",
                    severity="warning",
                    subject=one.facts.id,
                    what=f"nearly the same id as {other}, but another item",
                    remedy="Remove one of them if you meant only one.",
                )


def _mixed(pairs: Pairs, games: Mapping[str, GameDefinition]) -> Iterator[Finding]:
    """Said once for a loader: mods and plugins beside each other."""
    kinds: dict[tuple[str, str], set[str]] = {}
    for _, one in pairs:
        for loader in one.facts.loaders if one.facts is not None and one.game in games else ():
            assert one.facts is not None and one.game is not None
            if games[one.game].loaders[loader].hybrid:
                kinds.setdefault((one.game, loader), set()).add(one.facts.kind)
    for (game, loader), found in kinds.items():
        if {"mod", "plugin"} <= found:
            yield Finding(
                code="mods-and-plugins",
                severity="warning",
                subject=games[game].loaders[loader].title,
                what="mods and plugins are mixed on one loader, which is often unstable",
                remedy="Prefer a mod where one does the same as a plugin, and keep backups.",
            )

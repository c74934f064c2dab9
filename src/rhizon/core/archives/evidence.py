"""Whether code can live on a server, from what it refers to.

The Java Virtual Machine loads a class together with everything it extends and implements (JVMS 5.3.5), loads more to
verify it (4.10.1.2), and resolves the rest when an instruction is first carried out (5.4.3). So a missing super class
of an entry class, or one that verifying it must load, is certain to end the start; a reference in a body that can be
reached is possible to. Classes are looked for on the whole class path of the server: content loaders give all archives
one.
"""

from collections import deque
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Literal, NamedTuple, TypeVar

import msgspec

from rhizon.core.archives.bytecode import refs_of
from rhizon.core.archives.classfile import (
    INTERFACE,
    PRIVATE,
    STATIC,
    ClassFile,
    ClassFileError,
    Method,
    Ref,
    named_types,
    parse_class,
)
from rhizon.core.archives.namespaces import Namespaces
from rhizon.core.archives.side_checks import SideChecks
from rhizon.core.archives.verifier import Load, loads_of_verification

__all__ = [
    "NOT_LINKED",
    "Evidence",
    "VisibleCode",
    "certain_evidence",
    "evidence_by_place",
    "follow_references",
    "judge_code",
]

# "unused": no entry of the set comes to it.
T = TypeVar("T")
Verdict = Literal["certain", "possible", "clean", "unused"]
_STEPS = 20_000  # of following references; what is beyond is not looked at
_MOST_CLASSES = 2_000  # that are parsed for one verdict
_STEPS_OF_SET = 200_000  # where the entries of all archives are started at once
_MOST_CLASSES_OF_SET = 8_000


# What is caught by code that goes on after a missing class, one looked up by name, and a missing screen.
NOT_LINKED = frozenset(f"java/lang/{name}" for name in ("NoClassDefFoundError", "LinkageError", "Error", "Throwable"))
_NOT_FOUND = NOT_LINKED | {
    f"java/lang/{name}" for name in ("ClassNotFoundException", "ReflectiveOperationException", "Exception")
}
_NO_SCREEN = frozenset(
    (
        *("java/awt/HeadlessException", "java/lang/UnsupportedOperationException", "java/lang/RuntimeException"),
        *("java/lang/Exception", "java/lang/Throwable"),
    )
)
_OF_OBJECT = ("<init>", "equals", "hashCode", "toString", "clone", "finalize", "compareTo")
# Calls that resolve the types in a class's signatures (java.lang.Class; ServiceLoader looks for a provider method).
_REFLECTION = frozenset(("java/lang/Class", "java/util/ServiceLoader"))
_REFLECTING = (
    *("getDeclared", "getMethod", "getField", "getConstructor", "getRecordComponents", "getEnclosing", "load"),
)


_LOOKUPS = frozenset((("java/lang/Class", "forName"), ("java/lang/ClassLoader", "loadClass")))


class Evidence(msgspec.Struct, frozen=True, kw_only=True):
    """What code says of its placement. ``client`` is the client-only class it leads to; ``chain`` how it gets there,
    from the entry class on, shortest first."""

    verdict: Verdict
    client: str = ""
    chain: tuple[str, ...] = ()
    why: str = ""


class _Step(NamedTuple):
    """Something reached: a class that is linked (no method) or a method that may run; ``came`` is how."""

    owner: str
    method: Method | None
    came: tuple[str, ...]


def _nothing(_: str) -> str | None:
    return None


class VisibleCode(NamedTuple):
    """The class path as the code of an archive sees it. ``read`` gives the bytes of a class by its name with slashes,
    None for one that is not on it; ``services`` providers (with dots) by service; ``parsed`` the class itself, where
    classes are kept parsed; ``for_players`` names the archive for players that alone has a class, and
    ``names_players`` tells whether a class may name such a one; None where none does."""

    read: Callable[[str], bytes | None]
    services: Mapping[str, Sequence[str]]
    parsed: Callable[[str], ClassFile | None] | None = None
    for_players: Callable[[str], str | None] = _nothing
    names_players: Callable[[str], bool] | None = None


def judge_code(code: VisibleCode, entries: Sequence[str], client: Namespaces) -> Evidence:
    """Follows references from entry classes (with dots). Code that cannot be parsed is followed no further."""
    return _Walk(code, client).judge(_slashed(entries))


def certain_evidence(code: VisibleCode, entries: Sequence[str], client: Namespaces) -> Evidence | None:
    """Only what is certain of entry classes (with dots), which needs no references to be followed."""
    return _Walk(code, client).certain(_slashed(entries))


def follow_references(
    code: VisibleCode,
    entries: Sequence[str],
    client: Namespaces,
    visit: Callable[[str, Ref, tuple[str, ...]], None],
) -> None:
    """Follows references as :func:`judge_code` does and gives each to ``visit``: the class whose method holds it, the
    reference, and how the method is come to."""
    walk = _Walk(code, client)
    walk.visit = visit
    walk.follow(_slashed(entries))


def evidence_by_place(
    code: VisibleCode,
    entries: Sequence[str],
    client: Namespaces,
    place_of: Callable[[str], T | None],
    may_go_on: Callable[[], bool],
) -> tuple[dict[T, Evidence], bool]:
    """What is found when the entries of a whole set are started, by the place of the code that holds it: what
    ``place_of`` gives for a step of a chain. A place that is come to and uses no client code is "clean".

    False with it where ``may_go_on`` or a bound ended the walk: then a place that is clean, or not there, may be so for
    that.
    """
    walk = _Walk(code, client)
    found: dict[T, dict[str, Evidence]] = {}

    def keep(kind: str, evidence: Evidence) -> None:
        place = place_of(evidence.chain[-2]) if len(evidence.chain) > 1 else None
        if place is not None:
            found.setdefault(place, {}).setdefault(kind, evidence)

    walk.on_found, walk.most_classes = keep, _MOST_CLASSES_OF_SET
    starts = _slashed(entries)
    walk.entries = frozenset(starts)
    whole = walk.follow(starts, most_steps=_STEPS_OF_SET, may_go_on=may_go_on)
    verdicts: dict[T, Evidence] = {}
    for place in {place_of(_dotted(name)) for name in walk.linked}:
        if place is not None:
            kinds = found.get(place, {})
            kind = next((one for one in walk.telling_kinds() if one in kinds), None)
            verdicts[place] = kinds[kind] if kind is not None else Evidence(verdict="clean")
    return verdicts, whole and walk.parsed_count < _MOST_CLASSES_OF_SET


def _slashed(names: Iterable[str]) -> list[str]:
    return [one.replace(".", "/") for one in names]


class _Walk:
    """Follows references from the entry classes through an archive and those inside it."""

    def __init__(self, code: VisibleCode, client: Namespaces) -> None:
        self._read = code.read
        self._parsed = code.parsed
        self._for_players = code.for_players
        self._names_players = code.names_players or (lambda _: False)
        self._client = client
        self._side_checks = SideChecks(client.side_checks, self._method)
        self._services = code.services
        self._classes: dict[str, ClassFile | None] = {}
        self.most_classes = _MOST_CLASSES
        self._verified_classes: dict[str, tuple[list[Load], frozenset[tuple[str, str]]]] = {}
        self.visit: Callable[[str, Ref, tuple[str, ...]], None] | None = None
        self.on_found: Callable[[str, Evidence], None] | None = None
        self._naming: dict[str, bool] = {}
        self._reflects = False
        self._called: set[tuple[str, str]] = set()
        self._waiting: dict[tuple[str, str], list[tuple[str, Method, tuple[str, ...]]]] = {}
        self.entries: frozenset[str] = frozenset()
        self.linked: set[str] = set()
        self._made: set[str] = set()
        self._run: set[tuple[str, str, str]] = set()
        self._queue: deque[_Step] = deque()
        # the first that was found of each kind, the most telling kind first
        self._found: dict[str, Evidence] = {}

    def judge(self, entries: Sequence[str]) -> Evidence:
        """The verdict with the shortest chain of classes that shows it."""
        self.entries = frozenset(entries)
        certain = self.certain(entries)
        if certain is not None:
            return certain
        self.follow(entries, until="run")
        return next((self._found[one] for one in self.telling_kinds() if one in self._found), Evidence(verdict="clean"))

    def certain(self, entries: Sequence[str]) -> Evidence | None:
        """What must end the start of an entry class."""
        return next(filter(None, map(self._supers, entries)), None)

    @property
    def parsed_count(self) -> int:
        """How many classes were asked for."""
        return len(self._classes)

    def telling_kinds(self) -> tuple[str, ...]:
        """The kinds of what is found that make a verdict, the most telling first."""
        return ("run", "linked", "made", *(("type",) if self._reflects else ()))

    def follow(
        self,
        entries: Sequence[str],
        until: str = "",
        most_steps: int = _STEPS,
        may_go_on: Callable[[], bool] = lambda: True,
    ) -> bool:
        """Starts every entry and follows what it comes to, until something of the kind ``until`` is found; whether
        nothing is left to follow."""
        for entry in entries:
            self._make(entry, ())
        for step in range(most_steps):
            if not self._queue or until in self._found or (step % 64 == 0 and not may_go_on()):
                break
            self._take(self._queue.popleft())
        return not self._queue

    def _get(self, name: str) -> ClassFile | None:
        if name not in self._classes:
            self._classes[name] = self._parse(name) if len(self._classes) < self.most_classes else None
        return self._classes[name]

    def _parse(self, name: str) -> ClassFile | None:
        if self._parsed is not None:
            return self._parsed(name)
        data = self._read(name)
        try:
            return parse_class(data) if data is not None else None
        except ClassFileError:
            return None

    def _method(self, owner: str, name: str, descriptor: str) -> Method | None:
        """A method that a class has itself."""
        parsed = self._get(owner)
        found = parsed.methods if parsed is not None else ()
        return next((one for one in found if (one.name, one.descriptor) == (name, descriptor)), None)

    def _missing(self, name: str) -> bool:
        """A client class that no archive of the server brings, or a class of an archive for players."""
        return (self._client.has(name) and self._read(name) is None) or self._for_players(name) is not None

    def _why_missing(self, name: str) -> str:
        archive = self._for_players(name)
        return f"which is in {archive}, for players only" if archive is not None else "which no server has"

    def _supers(self, entry: str) -> Evidence | None:
        """A client class that loading or linking an entry class needs: starting it fails."""
        missing, loaded = self._missing_super(entry)
        return missing or self._verified(sorted(loaded), entry)

    def _missing_super(self, start: str) -> tuple[Evidence | None, set[str]]:
        """The nearest missing class among all that a class extends and implements, and all of these classes."""
        waiting: deque[tuple[str, tuple[str, ...]]] = deque([(start, (_dotted(start),))])
        seen = {start}
        while waiting:
            name, came = waiting.popleft()
            parsed = self._get(name)
            for other in (parsed.super_name, *parsed.interfaces) if parsed is not None else ():
                if self._missing(other):
                    why = f"{_dotted(name)} extends or implements {_dotted(other)}, {self._why_missing(other)}"
                    return _certain(other, came, why), seen
                if other not in seen:
                    seen.add(other)
                    waiting.append((other, (*came, _dotted(other))))
        return None, seen

    def _verified(self, names: Iterable[str], entry: str) -> Evidence | None:
        """A client class that the verifier must load for the entry class or one that it extends: linking it fails."""
        for name in names:
            for load in self._verify(name)[0]:
                if self._missing(load.name):
                    chain = (_dotted(entry),) if name == entry else (_dotted(entry), _dotted(name))
                    why = f"verifying {_dotted(name)}.{load.method} loads it, since {load.why}"
                    return _certain(load.name, (*chain[:-1], f"{chain[-1]}.{load.method}"), why)
        return None

    def _verify(self, name: str) -> tuple[list[Load], frozenset[tuple[str, str]]]:
        """What verifying a class of the class path loads, and the methods of which that is not known. A class that
        names no client code loads none."""
        if name not in self._verified_classes:
            data = self._read(name) if self._names_client(name) else None
            self._verified_classes[name] = (
                loads_of_verification(data, self._is_interface) if data is not None else ([], frozenset())
            )
        return self._verified_classes[name]

    def _names_client(self, name: str) -> bool:
        """Whether a class may name one that a server does not have."""
        if name not in self._naming:
            data = self._read(name)
            self._naming[name] = data is not None and (self._client.named_in(data) or self._names_players(name))
        return self._naming[name]

    def _is_interface(self, name: str) -> bool | None:
        parsed = self._get(name)
        return bool(parsed.access & INTERFACE) if parsed is not None else None

    def _note(self, kind: str, client: str, came: tuple[str, ...], why: str) -> None:
        if kind not in self._found or self.on_found is not None:
            chain = (*came, _dotted(client))
            evidence = Evidence(verdict="possible", client=_dotted(client), chain=chain, why=why)
            self._found.setdefault(kind, evidence)
            if self.on_found is not None:
                self.on_found(kind, evidence)

    def _link(self, name: str, came: tuple[str, ...]) -> None:
        """The class is loaded, verified and initialised."""
        parsed = self._get(name)
        if parsed is None or name in self.linked:
            return
        self.linked.add(name)
        here = (*came, _dotted(name))
        self._queue.append(_Step(name, None, here))
        for method in parsed.methods:
            if method.name == "<clinit>":
                self._enter(name, method, here)

    def _make(self, name: str, came: tuple[str, ...]) -> None:
        """An object of the class: its methods may be called by whoever knows one of its types, its static and private
        ones by reflection on their annotations only."""
        self._link(name, came)
        outside = self._known_outside(name)
        while name not in self._made:
            self._made.add(name)
            parsed = self._get(name)
            if parsed is None:
                return
            for method in parsed.methods:
                signature = (method.name, method.descriptor)
                if method.access & (STATIC | PRIVATE) and method.name != "<init>":
                    if method.marks:
                        self._enter(name, method, came)
                elif outside or signature in self._called or method.name in _OF_OBJECT or method.marks:
                    self._enter(name, method, came)
                else:
                    self._waiting.setdefault(signature, []).append((name, method, came))
            for other in parsed.interfaces:  # for what they define themselves
                self._make(other, came)
            name = parsed.super_name

    def _known_outside(self, name: str) -> bool:
        """Whether a type of the class is one of the server's, the runtime's or unknown: any method may override its."""
        waiting, seen = [name], {name}
        while waiting:
            parsed = self._get(waiting.pop())
            if parsed is None:
                return True
            for other in (parsed.super_name, *parsed.interfaces):
                if other not in seen and other not in ("", "java/lang/Object", "java/lang/Enum", "java/lang/Record"):
                    seen.add(other)
                    waiting.append(other)
        return False

    def _enter(self, owner: str, method: Method, came: tuple[str, ...]) -> None:
        key = (owner, method.name, method.descriptor)
        if key not in self._run and not self._client.marks.intersection(method.marks):
            self._run.add(key)
            self._queue.append(_Step(owner, method, (*came, f"{_dotted(owner)}.{method.name}")))

    def _take(self, step: _Step) -> None:
        parsed = self._get(step.owner)
        assert parsed is not None
        if step.method is None:
            self._look_at_class(parsed, step.came)
            return
        refs = refs_of(step.method, self._side_checks.live(step.method))
        for ref in refs:
            if self.visit is not None:
                self.visit(step.owner, ref, step.came)
            self._follow(ref, step.came)
        self._put_together(refs, step.came)
        if any(ref.owner == "java/util/ServiceLoader" for ref in refs):
            self._provide(refs, step.came)

    def _provide(self, refs: Sequence[Ref], came: tuple[str, ...]) -> None:
        """Makes the providers of the services that a method which loads some names; of all, where it names none."""
        named = [_dotted(ref.owner) for ref in refs if ref.kind == "class" and _dotted(ref.owner) in self._services]
        for service in named or self._services:
            for provider in self._services[service]:
                self._make(provider.replace(".", "/"), came)

    def _put_together(self, refs: Sequence[Ref], came: tuple[str, ...]) -> None:
        """A class looked up by a name that the method puts together out of texts, one of them a client package's."""
        lookup = next((ref for ref in refs if (ref.owner, ref.name) in _LOOKUPS), None)
        if lookup is None or not _NOT_FOUND.isdisjoint(lookup.caught):
            return
        for ref in refs:
            package = self._client.part_of(ref.owner) if ref.kind == "string" else ""
            if package:
                self._note("run", package, came, "it looks up a class by a name that it puts together")
                return

    def _look_at_class(self, parsed: ClassFile, came: tuple[str, ...]) -> None:
        """Follows what loading and initialising a class leads to; certain evidence ends the walk."""
        own = _dotted(parsed.name)
        if self._client.marks.intersection(parsed.marks):
            self._note("run", parsed.name, came[:-1], f"{own} is marked as client-only by its author")
        for other in (parsed.super_name, *parsed.interfaces):
            if self._missing(other):
                self._note("run", other, came, f"{own} extends or implements it")
            else:
                self._link(other, came)
        for field in parsed.fields:
            for one in named_types(field.descriptor):
                if self._missing(one):
                    self._note("type", one, came, f"a field of {own} is of this type")
        loads, unclear = self._verify(parsed.name)
        for load in loads:
            if self._missing(load.name):
                why = f"the verifier loads it when the class is linked, since {load.why}"
                self._note("linked", load.name, (*came, f"{own}.{load.method}"), why)
        for method in parsed.methods if self._names_client(parsed.name) else ():
            where = (*came, f"{own}.{method.name}")
            made = method.name == "<init>" and parsed.name in self.entries
            for ref in refs_of(method):
                if ref.kind == "string" or not self._missing(ref.owner):
                    continue
                if ref.kind == "type":
                    self._note("made" if made else "type", ref.owner, where, "only named in signatures")
                elif (method.name, method.descriptor) in unclear:
                    self._note("linked", ref.owner, where, "the verifier reads this method when the class is linked")

    def _follow(self, ref: Ref, came: tuple[str, ...]) -> None:
        """Follows one reference of a method, with the chain that led to it."""
        if ref.kind == "string":
            spelled = self._client.spelled(ref.owner)
            if spelled and self._missing(spelled) and _NOT_FOUND.isdisjoint(ref.caught):
                self._note("run", spelled, came, "looked up by name")
            elif "." in ref.owner or "/" in ref.owner:
                self._make(ref.owner.replace(".", "/"), came)
            return
        if ref.kind != "type" and self._missing(ref.owner):
            if NOT_LINKED.isdisjoint(ref.caught):
                self._note("run", ref.owner, came, "used when the method runs")
            return
        if self._client.wants_screen(ref) and _NO_SCREEN.isdisjoint(ref.caught):
            self._note("run", ref.owner, came, "it needs a screen, and a server has none")
            return
        if ref.kind == "cast":
            missing, _ = self._missing_super(ref.owner)
            if missing is not None and NOT_LINKED.isdisjoint(ref.caught):
                self._note("run", missing.client.replace(".", "/"), (*came, *missing.chain[:-1]), missing.why)
        if ref.kind in ("new", "class"):  # a class object is there to make objects of
            self._make(ref.owner, came)
        elif ref.kind in ("call", "field") and NOT_LINKED.isdisjoint(ref.caught):
            self._link(ref.owner, came)
        if ref.kind == "call" and NOT_LINKED.isdisjoint(ref.caught):
            self._call(ref, came)

        if ref.owner in _REFLECTION and ref.name.startswith(_REFLECTING):
            self._reflects = True

    def _call(self, ref: Ref, came: tuple[str, ...]) -> None:
        """The method where it is declared, in the class that is named or in one that it extends or implements, and in
        whatever object has one of that name and descriptor."""
        signature = (ref.name, ref.descriptor)
        self._called.add(signature)
        for owner, method, _ in self._waiting.pop(signature, ()):
            self._enter(owner, method, came)
        waiting, seen = deque([ref.owner]), {ref.owner}
        while waiting:
            name = waiting.popleft()
            parsed = self._get(name)
            if parsed is None:
                continue
            for method in parsed.methods:
                if (method.name, method.descriptor) == signature:
                    self._enter(name, method, came)
                    return
            for other in (parsed.super_name, *parsed.interfaces):
                if other not in seen:
                    seen.add(other)
                    waiting.append(other)


def _certain(client: str, came: tuple[str, ...], why: str) -> Evidence:
    return Evidence(verdict="certain", client=_dotted(client), chain=(*came, _dotted(client)), why=why)


def _dotted(name: str) -> str:
    return name.replace("/", ".")

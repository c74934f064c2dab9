"""One archive whole: what it says, what its code shows, what it carries, and where these disagree.

Classes are inflated once and searched for client-only names before any is parsed: nearly all hold none.
"""

from collections.abc import Iterable

import msgspec

from rhizon.core.archives.assembly import Assembly
from rhizon.core.archives.class_places import places_of
from rhizon.core.archives.classes import (
    LATEST_MAJOR,
    RUNTIME_MAJOR,
    ArchiveClasses,
    archive_classes,
    archives_inside,
    checksums,
    is_multi_release,
)
from rhizon.core.archives.classfile import java_major
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.entry_class import why_unusable
from rhizon.core.archives.evidence import Evidence, VisibleCode, judge_code
from rhizon.core.archives.facts import ArchiveFacts, assembly_facts, read_facts
from rhizon.core.archives.kind import Kind, kind_of_archive
from rhizon.core.archives.namespaces import Namespaces
from rhizon.core.archives.signature import signature_findings
from rhizon.core.finding import Finding
from rhizon.core.model.base import ANY
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.metadata import Placement
from rhizon.core.names import printable
from rhizon.core.version import Version, VersionRange, parse_range

__all__ = [
    "CodeFacts",
    "Embedded",
    "Scanned",
    "client_namespaces",
    "runtime_range",
    "scan",
    "scan_assembly",
    "with_evidence",
]

_NATIVE = (".so", ".dll", ".dylib", ".jnilib")


class Embedded(msgspec.Struct, frozen=True, kw_only=True):
    """An archive inside; id and version where its metadata says them."""

    path: str
    id: str | None = None
    version: Version | None = None


class CodeFacts(msgspec.Struct, frozen=True, kw_only=True):
    """What the class files show. ``java_major`` is the lowest Java that loads them all, None without any; ``evidence``
    None where nothing is started, ``later`` what may happen only on runtimes that take newer entries of a multi-release
    archive; ``natives`` native files; ``client_packages`` how many classes name each package that
    a server does not have; ``providers`` what service files name, by service.

    For comparing archives without opening them, as bytes of four (a CRC) for each name: ``names`` and ``packages`` of
    its classes, ``uses`` the packages that they may name, by their own package, ``client_in`` the packages that name
    client code. ``places`` are where its classes are in the file (class_places.py).
    """

    classes: int
    java_major: int | None
    evidence: Evidence | None
    later: Evidence | None = None
    natives: tuple[str, ...]
    names: bytes
    packages: bytes
    places: bytes = b""
    uses: dict[int, bytes] = {}
    client_in: bytes = b""
    client_packages: dict[str, int] = {}
    providers: dict[str, tuple[str, ...]] = {}


class Scanned(msgspec.Struct, frozen=True, kw_only=True):
    """One archive; ``source`` names it. ``game`` is the one whose metadata it has; ``placement`` the one to go by, and
    ``sure`` why: "declared", "certain from code", "possible from code" or "assumed"."""

    source: str
    files: int
    game: str | None
    facts: ArchiveFacts | None
    code: CodeFacts
    embedded: tuple[Embedded, ...]
    placement: Placement
    sure: str
    findings: tuple[Finding, ...]


def scan(archive: Archive, games: Iterable[GameDefinition], runtime_major: int = RUNTIME_MAJOR) -> Scanned:
    """Reads an archive under the first of the games whose metadata it has. ``runtime_major`` decides which entries of
    a multi-release archive count. Raises TrustError when a class of it is damaged."""
    games = tuple(games)
    game, facts, findings = _said(archive, games)
    if facts is None and all(one.code == "metadata-missing" for one in findings):
        findings = _as_kind(archive, kind_of_archive(archive)) or findings
    inside = archives_inside(archive)
    # others may use an archive of no game as a library, so what any of the games says counts
    client = client_namespaces(*([game] if game is not None else games))
    classes = ArchiveClasses()
    for one in (archive, *(inner for _, inner in inside)):
        classes.search(classes.add(one, runtime_major), client)
    evidence = later = None
    if facts is not None and facts.entry and classes.where:
        visible = VisibleCode(classes.read, classes.providers)
        evidence = judge_code(visible, facts.entry, client) if classes.client_in else _CLEAN
        later = _on_later_runtimes(archive, facts, client) if evidence.verdict != "certain" else None
        evidence = later if later is not None and evidence.verdict == "clean" else evidence
    if facts is not None:
        findings += _entries_there(archive.source, facts, classes)
    code = CodeFacts(
        classes=len(classes.where),
        java_major=java_major(classes.highest) if classes.highest is not None else None,
        evidence=evidence,
        later=later,
        natives=tuple(path for path in archive.names() if path.endswith(_NATIVE)),
        names=checksums(classes.where),
        places=places_of(classes, archive),
        packages=checksums({name.rpartition("/")[0] for name in classes.where}),
        uses=classes.uses(),
        client_in=checksums(classes.client_in),
        client_packages=dict(sorted(classes.client_packages.items())),
        providers={service: tuple(named) for service, named in sorted(classes.providers.items())},
    )
    embedded = tuple(_embedded(path, inner, game) for path, inner in inside)
    placement, sure = _placement(facts, evidence)
    findings += _disagreements(archive.source, facts, code)
    findings += _on_placement(archive.source, facts, evidence)
    findings += signature_findings(archive)
    return Scanned(
        source=archive.source,
        files=len(archive.names()),
        game=game.id if game else None,
        facts=facts,
        code=code,
        embedded=embedded,
        placement=placement,
        sure=sure,
        findings=tuple(findings),
    )


def _on_later_runtimes(archive: Archive, facts: ArchiveFacts, client: Namespaces) -> Evidence | None:
    """What newer entries of a multi-release archive lead to, as something possible; None where that is nothing."""
    if not is_multi_release(archive):
        return None
    classes = archive_classes(archive, LATEST_MAJOR)
    if not any(
        client.named_in(classes.read_if_whole(name) or b"")
        for name, (_, path) in classes.where.items()
        if "META-INF/versions/" in path
    ):
        return None
    found = judge_code(VisibleCode(classes.read, classes.providers), facts.entry, client)
    if found.verdict == "clean":
        return None
    return msgspec.structs.replace(found, verdict="possible", why=f"{found.why}; on a newer runtime only")


def _as_kind(archive: Archive, kind: Kind | None) -> list[Finding]:
    """What the archive is instead of content, as the one finding on that."""
    if kind is None:
        return []
    subject = archive.source
    return [Finding(code=kind.code, severity="warning", subject=subject, what=kind.what, remedy=kind.remedy)]


def client_namespaces(*games: GameDefinition) -> Namespaces:
    """What only the clients of these games have."""
    only = [game.client_only for game in games]
    return Namespaces(
        dict.fromkeys(name for one in only for name in one.namespaces),
        dict.fromkeys(name for one in only for name in one.annotations),
        dict.fromkeys(name for one in only for name in one.platform),
        {name: answer for one in only for name, answer in one.side_checks.items()},
    )


def scan_assembly(assembly: Assembly, source: str, games: Iterable[GameDefinition]) -> Scanned | None:
    """An assembly as content of the first of the games that takes such; None when none does."""
    for game in games:
        facts, findings = assembly_facts(assembly, source, game)
        if facts is None and not findings:
            continue
        placement, sure = _placement(facts, None)
        return Scanned(
            source=source,
            files=1,
            game=game.id,
            facts=facts,
            code=CodeFacts(classes=0, java_major=None, evidence=None, natives=(), names=b"", packages=b""),
            embedded=(),
            placement=placement,
            sure=sure,
            findings=tuple(findings),
        )
    return None


_CLEAN = Evidence(verdict="clean")


def _said(
    archive: Archive, games: Iterable[GameDefinition]
) -> tuple[GameDefinition | None, ArchiveFacts | None, list[Finding]]:
    findings: list[Finding] = []
    for game in games:
        facts, wrong = read_facts(archive, game)
        if facts is not None:
            return game, facts, wrong
        if not findings or any(one.code != "metadata-missing" for one in wrong):
            findings = wrong
    return None, None, findings


def _embedded(path: str, inner: Archive, game: GameDefinition | None) -> Embedded:
    facts = read_facts(inner, game)[0] if game is not None else None
    return Embedded(path=path, id=facts.id if facts else None, version=facts.version if facts else None)


def _placement(facts: ArchiveFacts | None, evidence: Evidence | None) -> tuple[Placement, str]:
    """What code is certain of goes before what the author says; what it may do does not."""
    if evidence is not None and evidence.verdict == "certain":
        return "player", "certain from code"
    if facts is None:
        return "shared", "assumed"
    if facts.placement_said or evidence is None or evidence.verdict != "possible":
        return facts.placement, "declared" if facts.placement_said else "assumed"
    return facts.placement, "possible from code"


def runtime_range(scanned: Scanned) -> VersionRange:
    """The runtime majors that it says it takes, and never less than what its code needs."""
    said = scanned.facts.runtime if scanned.facts is not None else ANY
    needed = scanned.code.java_major
    if needed is None or (not said.open and _least(said) >= needed):
        return said
    return parse_range(f">={needed}" if said.open else f"{said}, >={needed}")


def _least(wanted: VersionRange) -> int:
    """The lowest major that a range names as its least; 0 where it has none."""
    lowest = next((one for one in wanted.comparators if one.op in (">=", "=", ">")), None)
    return lowest.version.key[0][0] if lowest is not None else 0


def _entries_there(source: str, facts: ArchiveFacts, classes: ArchiveClasses) -> list[Finding]:
    """Findings for entry classes that are missing or that nothing can start."""
    findings = []
    for entry in dict.fromkeys(facts.entry):
        wrong = why_unusable(entry, facts.entry_type, classes.read)
        if wrong is not None:
            remedy = "Download the archive again; if it is the same, report it to the author."
            code, what = wrong
            findings.append(
                Finding(code=code, severity="error", subject=source, what=printable(what, 300), remedy=remedy)
            )
    return findings


def with_evidence(scanned: Scanned, evidence: Evidence) -> Scanned:
    """The same archive with another verdict from code, and everything that follows from that."""
    if evidence.verdict == "clean" and scanned.code.later is not None:
        evidence = scanned.code.later
    placement, sure = _placement(scanned.facts, evidence)
    kept = [one for one in scanned.findings if one.code not in ("client-only-code", "client-code-reached")]
    return msgspec.structs.replace(
        scanned,
        code=msgspec.structs.replace(scanned.code, evidence=evidence),
        placement=placement,
        sure=sure,
        findings=(*kept, *_on_placement(scanned.source, scanned.facts, evidence)),
    )


def _on_placement(source: str, facts: ArchiveFacts | None, evidence: Evidence | None) -> list[Finding]:
    """Findings where the declared placement and the code disagree."""
    findings = []
    # of a library, those that use it are told
    if facts is not None and facts.entry and evidence is not None and facts.placement != "player":
        path = " → ".join(evidence.chain)
        if evidence.verdict == "certain":
            findings.append(
                Finding(
                    code="client-only-code",
                    severity="error",
                    subject=source,
                    what=f"{_said_placement(facts)} but cannot be loaded on a server: {path} ({evidence.why})",
                    remedy="Leave it out of the server; it is for players. Report it to the author.",
                )
            )
        elif evidence.verdict == "possible":
            findings.append(
                Finding(
                    code="client-code-reached",
                    severity="warning",
                    subject=source,
                    what=f"{_said_placement(facts)} but may use client code: {path} ({evidence.why})",
                    remedy="Try it on a test server first; it works if it checks first on which side it runs.",
                )
            )
    return findings


def _said_placement(facts: ArchiveFacts) -> str:
    return f"it is declared {facts.placement}" if facts.placement_said else "its author does not say where it belongs,"


def _disagreements(source: str, facts: ArchiveFacts | None, code: CodeFacts) -> list[Finding]:
    """Findings where the declared metadata and the code disagree, and on what only some systems can run."""
    findings = []
    if code.natives:
        findings.append(
            Finding(
                code="native-code",
                severity="note",
                subject=source,
                what=f"it contains native code: {', '.join(code.natives[:4])}{' …' if len(code.natives) > 4 else ''}",
                remedy="It runs only on the systems it was built for.",
            )
        )
    if facts is not None and code.java_major is not None and 0 < _least(facts.runtime) < code.java_major:
        findings.append(
            Finding(
                code="runtime-understated",
                severity="warning",
                subject=source,
                what=f"it declares Java {facts.runtime}, but its code needs Java {code.java_major} or later",
                remedy="The code's version is used.",
            )
        )
    return findings

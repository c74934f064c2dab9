"""Archives on this machine as Rhizon sees them: read once, then remembered."""

import contextlib
import os
import time
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

import msgspec

from rhizon.adapters.cpu_limit import CpuLimitError, cpu_limit
from rhizon.adapters.files import BytesOnDemand, FileBytes, read_bytes, translated
from rhizon.adapters.scans import Scans
from rhizon.app.archives.scan_part import shared_out
from rhizon.app.host import Host
from rhizon.app.reporter import Reporter
from rhizon.core.archives.assembly import Assembly, read_assembly
from rhizon.core.archives.assembly_set import assemblies_together
from rhizon.core.archives.class_places import PlacedClasses
from rhizon.core.archives.classes import ArchiveClasses, archive_classes
from rhizon.core.archives.deep import EveryClass, every_class
from rhizon.core.archives.entries import Archive, Budget
from rhizon.core.archives.evidence import Evidence
from rhizon.core.archives.file_name import copy_order, on_file_name
from rhizon.core.archives.judge_together import judge_together
from rhizon.core.archives.kind import HEAD_BYTES, Kind, kind_of_bytes
from rhizon.core.archives.scan import Scanned, client_namespaces, scan, scan_assembly, with_evidence
from rhizon.core.archives.together import together
from rhizon.core.errors import RhizonError, TrustError
from rhizon.core.finding import Finding, Severity
from rhizon.core.model.game import GameDefinition
from rhizon.core.names import printable
from rhizon.core.units import counted

__all__ = [
    "ENDINGS",
    "FACTS_ENDING",
    "FilesAside",
    "ScannedFile",
    "archive_files",
    "assembly_entry",
    "classes_of",
    "every_class_of",
    "files_aside",
    "judge_set",
    "left_unread",
    "scan_files",
    "scan_files_into",
    "scan_together",
]

ENDINGS = (".jar", ".zip", ".dll")
FACTS_ENDING = ".facts.toml"  # of a file beside an archive, in which a person corrects what it says
MOST_DEEP = 6  # folders below one that was named
MOST_LISTED = 10_000
LARGEST_ASSEMBLY = 16 << 20
TAIL_BYTES = 66_000  # where a zip's end record is
LARGEST_HELD = 512 << 20  # bytes of an archive whose classes are followed
CPU_SECONDS = 1.5  # of one archive, and
CPU_SECONDS_OF_SET = 10.0  # of judging all of them together, and
CPU_SECONDS_OF_SET_PER_MB = 0.02  # of their size
CPU_SECONDS_PER_MB = 0.25  # of its size
CPU_SECONDS_DEEP = 10.0  # of looking at every class of one archive, and
CPU_SECONDS_DEEP_PER_MB = 2.0  # of its size


class ScannedFile(msgspec.Struct, frozen=True, kw_only=True):
    """One file. ``archive`` for a zip, ``assembly`` for a .NET one, with ``archive`` where a game takes it for content;
    neither for what is not what its name says.
    ``problem`` is the code of what keeps it from being used at all; one that cannot be read has no hash."""

    path: str
    sha256: str
    size: int
    archive: Scanned | None = None
    assembly: Assembly | None = None
    problem: str | None = None
    findings: tuple[Finding, ...] = ()


def archive_files(folder: Path) -> list[Path]:
    """The archives directly in a folder, by name."""
    with translated("read the folder", folder):
        return sorted(file for file in folder.iterdir() if file.suffix.lower() in ENDINGS and file.is_file())


class FilesAside(NamedTuple):
    """What a folder holds beside the archives directly in it, by path: archives in folders ``below``, archives that are
    ``renamed`` to another ending, and ``others``."""

    below: list[str]
    renamed: list[str]
    others: list[str]


def files_aside(folder: Path) -> FilesAside:
    """What is not read of a folder; a person may think that it is."""
    found = FilesAside([], [], [])
    with translated("read the folder", folder):
        for parent, folders, names in os.walk(folder):
            folders.sort()
            here = Path(parent)
            if len(here.relative_to(folder).parts) > MOST_DEEP or sum(map(len, found)) > MOST_LISTED:
                folders.clear()
                continue
            for name in sorted(names):
                path = (here / name).relative_to(folder).as_posix()
                endings = [one.lower() for one in Path(name).suffixes]
                if endings and endings[-1] in ENDINGS:
                    if here != folder or not (here / name).is_file():
                        found.below.append(path)
                elif any(one in ENDINGS for one in endings) and not name.endswith(FACTS_ENDING):
                    found.renamed.append(path)
                elif here == folder and not name.endswith(FACTS_ENDING):
                    found.others.append(path)
    return found


def left_unread(folder: Path) -> list[Finding]:
    """The findings on what is not read of a folder."""
    aside = files_aside(folder)
    kinds: tuple[tuple[str, Severity, list[str], str, str], ...] = (
        (
            "archives-below",
            "warning",
            aside.below,
            "in folders below",
            "Move those you want into the folder.",
        ),
        (
            "archives-aside",
            "warning",
            aside.renamed,
            "under another ending",
            "Restore the ending of those you want.",
        ),
        ("other-files", "note", aside.others, "of another kind", "Nothing to do if they are not content."),
    )
    subject = printable(folder.name or str(folder), 120)
    return [
        Finding(
            code=code,
            severity=severity,
            subject=subject,
            what=f"{counted(len(paths), 'file')} {where}, not read: {_some(paths)}",
            remedy=remedy,
        )
        for code, severity, paths, where, remedy in kinds
        if paths
    ]


def _some(paths: Sequence[str]) -> str:
    shown = ", ".join(printable(path, 80) for path in paths[:8])
    return shown + (f" and {len(paths) - 8} more" if len(paths) > 8 else "")


def scan_files(
    host: Host, files: Iterable[Path], games: Sequence[GameDefinition], reporter: Reporter | None = None
) -> list[ScannedFile]:
    """Each file, in order. A file that cannot be used is an answer with a finding, never an error."""
    files = list(files)
    if reporter is not None:
        reporter.step(f"reading {counted(len(files), 'archive')}")
    with shared_out(host.places.scans, files, games) as order:
        found = scan_files_into(Scans(host.places.scans, games), order, games, reporter)
    return [found[file] for file in files]


def scan_files_into(
    scans: Scans, files: Sequence[Path], games: Sequence[GameDefinition], reporter: Reporter | None = None
) -> dict[Path, ScannedFile]:
    """Reads files one after the other, and remembers their facts."""
    found = {}
    for number, file in enumerate(files, 1):
        if reporter is not None and len(files) > 1:
            reporter.progress(printable(file.name, 60), number / len(files))
        found[file] = _scanned(scans, file, games)
    return found


def _scanned(scans: Scans, file: Path, games: Sequence[GameDefinition]) -> ScannedFile:
    """One file, whatever is in it: one odd archive must not keep the others from being read."""
    wrong: RhizonError
    try:
        with cpu_limit(CPU_SECONDS + CPU_SECONDS_PER_MB * file.stat().st_size / 1e6):
            return _scan_file(scans, file, games)
    except RhizonError as known:
        wrong = known
    except CpuLimitError:
        wrong = _odd("archive-costly", file, "reading it takes far too long for an archive of its size")
    except OSError as refused:
        wrong = _odd("unreadable", file, refused.strerror or "it cannot be read")
    except Exception as odd:
        wrong = _odd("archive-unreadable", file, f"reading it failed ({type(odd).__name__})")
    return ScannedFile(path=str(file), sha256="", size=0, problem=wrong.code, findings=(_unusable(file.name, wrong),))


def _odd(code: str, file: Path, why: str) -> TrustError:
    return TrustError(
        code,
        f"{file.name} cannot be used: {why}",
        hint="Download the archive again from its publisher; if it is the same, report it to its author.",
    )


def _scan_file(scans: Scans, file: Path, games: Sequence[GameDefinition]) -> ScannedFile:
    """The facts of one file: from the cache, or read under a bound of processor time; a problem is a finding."""
    with translated("read", file):
        known = scans.known(file)
    file_only = ScannedFile(path=str(file), sha256=known.sha256, size=known.size)
    with_ = msgspec.structs.replace
    if known.scanned is not None:
        scanned = _named(known.scanned, file.name)
        return with_(file_only, archive=scanned, findings=_findings(scanned, file.name))
    if file.suffix.lower() == ".dll":
        assembly = read_assembly(read_bytes(file, ".NET assembly", LARGEST_ASSEMBLY))
        if assembly is not None:
            content = scan_assembly(assembly, file.name, games)
            findings = _findings(content, file.name) if content is not None else ()
            return with_(file_only, assembly=assembly, archive=content, findings=findings)
        return with_(file_only, problem="no-assembly", findings=(_no_assembly(file.name),))
    try:
        with FileBytes(file) as data:
            scanned = scan(Archive(data, file.name, Budget(file.name, data.size)), games)
    except TrustError as wrong:
        kind = _kind(file, known.size) if wrong.code == "archive-unreadable" else None
        if kind is None:
            return with_(file_only, problem=wrong.code, findings=(_unusable(file.name, wrong),))
        return with_(file_only, problem=kind.code, findings=(_other_kind(file.name, kind),))
    scans.keep(known.sha256, scanned)
    return with_(file_only, archive=scanned, findings=_findings(scanned, file.name))


def _findings(scanned: Scanned, name: str) -> tuple[Finding, ...]:
    """Those of the content, and of the name that the file has here."""
    return (*scanned.findings, *(on_file_name(name, scanned.facts) if scanned.facts is not None else ()))


def _kind(file: Path, size: int) -> Kind | None:
    """What a file is that is no zip archive."""
    with FileBytes(file) as data:
        tail = data.read_at(max(size - TAIL_BYTES, 0), TAIL_BYTES)
        return kind_of_bytes(data.read_at(0, HEAD_BYTES), size, has_end=b"PK\x05\x06" in tail)


def _other_kind(name: str, kind: Kind) -> Finding:
    subject = printable(name, 120)
    return Finding(code=kind.code, severity="error", subject=subject, what=kind.what, remedy=kind.remedy)


def _unusable(name: str, wrong: RhizonError) -> Finding:
    what = printable(str(wrong), 300)
    return Finding(code=wrong.code, severity="error", subject=printable(name, 120), what=what, remedy=wrong.hint)


def _named(scanned: Scanned, name: str) -> Scanned:
    """The same bytes under the name that they have now."""
    renamed = msgspec.structs.replace
    findings = (renamed(one, subject=name) if one.subject == scanned.source else one for one in scanned.findings)
    return renamed(scanned, source=name, findings=tuple(findings))


def _no_assembly(name: str) -> Finding:
    return Finding(
        code="no-assembly",
        severity="warning",
        subject=printable(name, 120),
        what="it is not a .NET assembly: a native library, or incomplete",
        remedy="If it is a plugin, download it again.",
    )


def judge_set(host: Host, files: Sequence[ScannedFile], games: Sequence[GameDefinition]) -> list[ScannedFile]:
    """The files, each archive with the verdict from code that it has beside the others on one class path; remembered
    for the same files."""
    by_name = {Path(one.path).name: one for one in files if one.archive is not None}
    archives = {name: one.archive for name, one in by_name.items() if one.archive is not None}
    scans, hashes = Scans(host.places.scans, games), {name: one.sha256 for name, one in by_name.items()}
    verdicts = scans.judged(hashes)
    if verdicts is None:
        verdicts = _verdicts(by_name, archives, games)
        scans.keep_judged(hashes, verdicts)
    judged = {name: with_evidence(archives[name], verdict) for name, verdict in verdicts.items() if name in archives}
    return [_with_archive(one, judged.get(Path(one.path).name)) for one in files]


def classes_of(file: Path) -> ArchiveClasses | None:
    """The classes of a Java archive, to be read as often as the caller has time for; None for another file, and for one
    that cannot be read."""
    if file.suffix.lower() not in (".jar", ".zip"):
        return None
    try:
        data = BytesOnDemand(file)
        classes = archive_classes(Archive(data, file.name, Budget(file.name, data.size)))
    except (RhizonError, OSError):
        return None
    classes.lift_budget()
    return classes


def every_class_of(file: ScannedFile, games: Sequence[GameDefinition]) -> EveryClass | None:
    """Each class of an archive by itself; None for what has none, and where it takes too long."""
    archive, path = file.archive, Path(file.path)
    if archive is None or not archive.code.classes:
        return None
    client = client_namespaces(*(game for game in games if archive.game in (None, game.id)))
    with contextlib.suppress(CpuLimitError), cpu_limit(CPU_SECONDS_DEEP + CPU_SECONDS_DEEP_PER_MB * file.size / 1e6):
        classes = classes_of(path)
        return every_class(classes, client) if classes is not None else None
    return None


def _verdicts(
    by_name: Mapping[str, ScannedFile], archives: Mapping[str, Scanned], games: Sequence[GameDefinition]
) -> dict[str, Evidence]:
    """The verdicts that differ from those that each archive has alone; of those that can be told in time."""

    def open_classes(name: str) -> PlacedClasses | None:
        path, code = Path(by_name[name].path), archives[name].code
        try:
            return PlacedClasses(BytesOnDemand(path), code.names, code.places, lambda: classes_of(path))
        except OSError:
            return None

    size = sum(one.size for one in by_name.values())
    end = time.process_time() + CPU_SECONDS_OF_SET + CPU_SECONDS_OF_SET_PER_MB * size / 1e6
    definitions = {game.id: game for game in games}
    judged = judge_together(archives, open_classes, definitions, lambda: time.process_time() < end)
    changed = {name: one.code.evidence for name, one in judged.items() if one is not archives[name]}
    return {name: evidence for name, evidence in changed.items() if evidence is not None}


def _with_archive(file: ScannedFile, archive: Scanned | None) -> ScannedFile:
    if archive is None or archive is file.archive:
        return file
    return msgspec.structs.replace(file, archive=archive, findings=_findings(archive, Path(file.path).name))


def scan_together(files: Sequence[ScannedFile], games: Sequence[GameDefinition]) -> list[Finding]:
    """What the files are to each other; of the same bytes only one counts."""
    first: dict[str, ScannedFile] = {}
    copies: dict[str, list[str]] = {}
    for one in sorted(
        files, key=lambda each: copy_order(Path(each.path).name, each.archive.facts if each.archive else None)
    ):
        original = first.setdefault(one.sha256, one) if one.sha256 else one
        if original is not one:
            copies.setdefault(original.path, []).append(Path(one.path).name)
    alone = {one.path for one in first.values()}
    files = [one for one in files if one.path in alone or not one.sha256]
    archives = {Path(one.path).name: one.archive for one in files if one.archive is not None}
    assemblies = {Path(one.path).name: one.assembly for one in files if one.assembly is not None}
    client = [name for game in games for name in game.client_only.assemblies]
    found = assemblies_together(assemblies, client=client, entry_type=assembly_entry(games))
    same = [_copies(Path(path).name, names) for path, names in sorted(copies.items())]
    return [*same, *together(archives, {game.id: game for game in games}), *found]


def _copies(name: str, others: Sequence[str]) -> Finding:
    return Finding(
        code="identical-files",
        severity="note",
        subject=printable(name, 120),
        what=f"the same bytes under {counted(len(others), 'more name')}: {_some(others)}",
        remedy="Delete the copies.",
    )


def assembly_entry(games: Sequence[GameDefinition]) -> str:
    """The type of which the loaders of these games make an object, where they load assemblies."""
    rules = (rule for game in games for loader in game.loaders.values() for rule in loader.metadata)
    return next((rule.entry_type for rule in rules if rule.format == "assembly" and rule.entry_type), "")

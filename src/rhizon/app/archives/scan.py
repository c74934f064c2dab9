"""Archives on this machine as Rhizon sees them: read once, then remembered."""

import contextlib
import os
import time
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

import msgspec

from rhizon.adapters.cpu_limit import CpuLimitError, cpu_limit
from rhizon.adapters.files import BytesOnDemand, translated
from rhizon.adapters.scans import Scans
from rhizon.app.archives.scan_part import shared_out
from rhizon.app.archives.scanned_file import ScannedFile, findings_of, scan_files_into
from rhizon.app.host import Host
from rhizon.app.reporter import Reporter
from rhizon.core.archives.assembly_set import assemblies_together
from rhizon.core.archives.class_places import PlacedClasses
from rhizon.core.archives.classes import ArchiveClasses, archive_classes
from rhizon.core.archives.deep import EveryClass, every_class
from rhizon.core.archives.entries import Archive, Budget
from rhizon.core.archives.evidence import Evidence
from rhizon.core.archives.file_name import copy_order
from rhizon.core.archives.judge_together import judge_together
from rhizon.core.archives.scan import Scanned, client_namespaces, with_evidence
from rhizon.core.archives.together import together
from rhizon.core.errors import RhizonError
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
    "scan_together",
]

ENDINGS = (".jar", ".zip", ".dll")
FACTS_ENDING = ".facts.toml"  # of a file beside an archive, in which a person corrects what it says
MOST_DEEP = 6  # folders below one that was named
MOST_LISTED = 10_000
LARGEST_HELD = 512 << 20  # bytes of an archive whose classes are followed
CPU_SECONDS_OF_SET = 10.0  # of judging all of them together, and
CPU_SECONDS_OF_SET_PER_MB = 0.02  # of their size
CPU_SECONDS_DEEP = 10.0  # of looking at every class of one archive, and
CPU_SECONDS_DEEP_PER_MB = 2.0  # of its size


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
    return msgspec.structs.replace(file, archive=archive, findings=findings_of(archive, Path(file.path).name))


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

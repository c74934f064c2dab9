"""One file as Rhizon sees it: read once, under a bound of processor time, then remembered by its hash."""

from collections.abc import Sequence
from pathlib import Path

import msgspec

from rhizon.adapters.cpu_limit import CpuLimitError, cpu_limit
from rhizon.adapters.files import FileBytes, read_bytes, translated
from rhizon.adapters.scans import Scans
from rhizon.app.reporter import Reporter
from rhizon.core.archives.assembly import Assembly, read_assembly
from rhizon.core.archives.entries import Archive, Budget
from rhizon.core.archives.file_name import on_file_name
from rhizon.core.archives.kind import HEAD_BYTES, Kind, kind_of_bytes
from rhizon.core.archives.scan import Scanned, scan, scan_assembly
from rhizon.core.errors import RhizonError, TrustError
from rhizon.core.finding import Finding
from rhizon.core.model.game import GameDefinition
from rhizon.core.names import printable

__all__ = ["ScannedFile", "findings_of", "scan_files_into"]

LARGEST_ASSEMBLY = 16 << 20
TAIL_BYTES = 66_000  # where a zip's end record is
CPU_SECONDS = 1.5  # of one archive, and
CPU_SECONDS_PER_MB = 0.25  # of its size


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
        return with_(file_only, archive=scanned, findings=findings_of(scanned, file.name))
    if file.suffix.lower() == ".dll":
        assembly = read_assembly(read_bytes(file, ".NET assembly", LARGEST_ASSEMBLY))
        if assembly is not None:
            content = scan_assembly(assembly, file.name, games)
            findings = findings_of(content, file.name) if content is not None else ()
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
    return with_(file_only, archive=scanned, findings=findings_of(scanned, file.name))


def findings_of(scanned: Scanned, name: str) -> tuple[Finding, ...]:
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

"""What the content of a server asks of the server that it is on: by the files that are really there."""

from collections.abc import Iterable, Sequence
from pathlib import Path

from rhizon.adapters.cpu_limit import CpuLimitError, cpu_limit
from rhizon.adapters.files import read_bytes
from rhizon.app.archives.scan import (
    LARGEST_HELD,
    ScannedFile,
    archive_files,
    assembly_entry,
    classes_of,
    judge_set,
    scan_files,
)
from rhizon.app.host import Host
from rhizon.app.instance.state import InstanceState
from rhizon.core.archives.assembly import Assembly, read_assembly
from rhizon.core.archives.assembly_set import assemblies_together
from rhizon.core.archives.linkage import content_linkage
from rhizon.core.archives.scan import client_namespaces
from rhizon.core.errors import RhizonError
from rhizon.core.finding import Finding

__all__ = ["content_findings", "scan_content"]

CPU_SECONDS = 20.0  # of following the code of all content; what is beyond is not looked at


def scan_content(host: Host, state: InstanceState) -> list[ScannedFile]:
    """The archives directly in the server's content folders, judged together."""
    game, folder = state.game, state.home.folder
    places = sorted({folder / one for one in game.folders.values()})
    files = [file for place in places if place.is_dir() and not place.is_symlink() for file in archive_files(place)]
    return judge_set(host, scan_files(host, files, [game]), [game]) if files else []


def content_findings(state: InstanceState, scanned: Sequence[ScannedFile]) -> list[Finding]:
    """What of the content was built for another server, loader or library than those that are there."""
    game, folder = state.game, state.home.folder
    if not scanned:
        return []
    files = {Path(one.path) for one in scanned}
    own = [folder / path for path in state.inventory.files if folder / path not in files]
    findings: list[Finding] = []
    try:
        with cpu_limit(CPU_SECONDS):
            findings += _java(state, scanned, own)
    except CpuLimitError:
        pass
    assemblies = {Path(one.path).name: one.assembly for one in scanned if one.assembly is not None}
    if assemblies:
        findings += assemblies_together(
            assemblies,
            beside=list(_assemblies(own)),
            whole=True,
            client=game.client_only.assemblies,
            entry_type=assembly_entry([game]),
        )
    return [one for one in findings if one.severity != "note"]


def _java(state: InstanceState, scanned: Sequence[ScannedFile], own: Sequence[Path]) -> list[Finding]:
    """References of Java content that nothing on the server satisfies."""
    entries = {
        Path(one.path).name: one.archive.facts.entry
        for one in scanned
        if one.archive is not None and one.archive.facts is not None
    }
    content = {Path(one.path).name: classes for one in scanned if (classes := classes_of(Path(one.path)))}
    beside = {path.name: classes for path in own if (classes := classes_of(path))}
    return content_linkage(content, entries, beside, client_namespaces(state.game))


def _assemblies(own: Sequence[Path]) -> Iterable[Assembly]:
    """The assemblies of the server and its loader."""
    for file in own:
        if file.suffix.lower() in (".dll", ".exe"):
            try:
                found = read_assembly(read_bytes(file, ".NET assembly", LARGEST_HELD))
            except RhizonError:
                continue
            if found is not None:
                yield found

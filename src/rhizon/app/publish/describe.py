"""A facts file beside an archive, begun for a person who fills in what the archive does not say."""

from pathlib import Path

import msgspec

from rhizon.adapters.files import translated, write_atomic
from rhizon.app.archives.as_items import described, said_beside
from rhizon.app.archives.scan import FACTS_ENDING, scan_files
from rhizon.app.host import Host
from rhizon.core.archives.facts import ArchiveFacts
from rhizon.core.archives.spelling import read_id, read_version, version_in_name
from rhizon.core.errors import InputError
from rhizon.core.finding import Finding

__all__ = ["DescribeResult", "describe"]


class DescribeResult(msgspec.Struct, frozen=True, kw_only=True):
    """``text`` is the facts file at ``path``; ``open`` the fields that a person has to fill in."""

    path: str
    text: str
    open: tuple[str, ...]
    findings: tuple[Finding, ...]


def describe(host: Host, archive: Path, game: str | None, *, write: bool = True) -> DescribeResult:
    """Begins ``ARCHIVE.facts.toml`` with all that is known. Raises InputError where there is no archive or the file is
    there already, DocumentError."""
    if not archive.is_file():
        raise InputError("no-such-file", f"there is no archive at {archive}", hint="Name the archive to describe.")
    beside = archive.with_name(archive.name + FACTS_ENDING)
    if beside.exists():
        said_beside(archive)
        raise InputError(
            "facts-file-exists", f"{beside} is there already", hint="Edit it; it counts before the archive."
        )
    games = host.games(archive.parent)
    rules = [games.get(name) for name in ([game] if game else games.files())]
    scanned = scan_files(host, [archive], rules)[0]
    known, _ = described(archive, scanned, rules)
    name = known.game if known is not None else game
    text, unknown = _text(archive.name, name, known.facts if known is not None else None)
    if write:
        with translated("write the facts file", beside):
            write_atomic(beside, text.encode())
    return DescribeResult(path=str(beside), text=text, open=tuple(unknown), findings=scanned.findings)


def _text(file_name: str, game: str | None, facts: ArchiveFacts | None) -> tuple[str, list[str]]:
    """The file's text, and the fields that are still open: lines that a person has to complete begin with ``#``."""
    version = facts.version.text if facts is not None else version_in_name(file_name)
    known = {
        "game": game or "",
        "id": facts.id if facts is not None else _id_in(file_name, version),
        "version": _readable(version),
        "title": facts.title if facts is not None else "",
        "kind": facts.kind if facts is not None else "mod",
        "placement": facts.placement if facts is not None and facts.placement_said else "",
        "game_versions": facts.game_versions.text if facts is not None else "",
        "runtime": facts.runtime.text if facts is not None else "",
    }
    meaning = {
        "game": "the id of its game (rhizon game list)",
        "id": "small letters, digits, - _ .",
        "version": "such as 2.1.0",
        "title": "as people call it",
        "kind": "mod, plugin, library, template or datapack",
        "placement": "shared, server, player or any",
        "game_versions": "such as >=4.2, <4.3; * for all",
        "runtime": "such as >=17; * for all",
    }
    lines = [f"# What {file_name} is; this counts before what it says itself.", 'format = "rhizon-facts/1"']
    unknown = []
    for field, value in known.items():
        if value:
            lines.append(f"{field} = {msgspec.json.encode(value).decode()}  # {meaning[field]}")
        else:
            unknown.append(field)
            lines.append(f'# {field} = ""  # {meaning[field]}')
    loaders = facts.loaders if facts is not None else {}
    builds = ", ".join(f"{name} = {msgspec.json.encode(span.text).decode()}" for name, span in loaders.items())
    lines.append(f"loaders = {{ {builds} }}  # builds that load it" if builds else '# loaders = { LOADER = "*" }')
    needs = ", ".join(
        f"{{ id = {msgspec.json.encode(one.id).decode()}, range = {msgspec.json.encode(one.range.text).decode()} }}"
        for one in (facts.requires if facts is not None else ())
        if one.id
    )
    lines.append(f"requires = [{needs}]" if needs else '# requires = [{ id = "marshlib", range = ">=2" }]')
    return "\n".join(lines) + "\n", unknown


def _id_in(file_name: str, version: str) -> str:
    """The id that a file name suggests; nothing where it suggests none."""
    stem = file_name.rpartition(".")[0].removesuffix(version).rstrip("-_ v")
    try:
        return read_id(stem)
    except ValueError:
        return ""


def _readable(version: str) -> str:
    try:
        return read_version(version).text
    except ValueError:
        return ""

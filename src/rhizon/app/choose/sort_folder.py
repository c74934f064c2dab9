"""A plain folder of archives, file by file: which are taken for a server, and why the others are not."""

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from rhizon.app.archives.as_items import Described, described
from rhizon.app.archives.scan import ENDINGS, ScannedFile, archive_files, files_aside, scan_files
from rhizon.app.host import Host
from rhizon.app.reporter import Reporter
from rhizon.core.archives.file_name import copy_order
from rhizon.core.errors import InputError
from rhizon.core.folder_files import FileState, FolderFile
from rhizon.core.model.game import GameDefinition
from rhizon.core.names import printable

__all__ = ["TakenFile", "sort_files"]


class TakenFile(NamedTuple):
    """A file that a server may get, with what it is."""

    file: Path
    known: Described


def sort_files(
    host: Host, folder: Path, rules: Sequence[GameDefinition], reporter: Reporter
) -> tuple[GameDefinition, list[TakenFile], list[FolderFile]]:
    """The game that most archives are for, of each of its items the newest release, and every file with its state.

    ``rules`` are the games to choose from. Raises InputError when no archive is of any of them, DocumentError for a
    wrong facts file.
    """
    files = archive_files(folder)
    scanned = scan_files(host, files, rules, reporter)
    known = [described(file, one, rules)[0] for file, one in zip(files, scanned, strict=True)]
    counts: dict[str, int] = {}
    for content in filter(None, known):
        counts[content.game] = counts.get(content.game, 0) + 1
    if not counts:
        which = f"of {rules[0].title}" if len(rules) == 1 else "of a known game"
        raise InputError(
            "no-archives",
            f"{folder} contains no archive {which}" + ("" if files else f" ({', '.join(ENDINGS)})"),
            hint="A source is a content list, a pack, a lock or a folder of archives.",
        )
    chosen = max(sorted(counts), key=counts.__getitem__)
    titles = {game.id: game.title for game in rules}
    order = sorted(
        zip(files, scanned, known, strict=True),
        key=lambda each: copy_order(each[0].name, each[2].facts if each[2] is not None else None),
    )
    newest: dict[str, TakenFile] = {}
    for file, _, one in order:
        if one is not None and one.game == chosen:
            best = newest.get(one.facts.id)
            if best is None or best.known.facts.version < one.facts.version:
                newest[one.facts.id] = TakenFile(file, one)
    first_of: dict[str, Path] = {}
    rows = []
    for file, facts, one in order:
        copy_of = first_of.setdefault(facts.sha256, file) if facts.sha256 else file
        taken = newest.get(one.facts.id) if one is not None and one.game == chosen else None
        if taken is not None and taken.file == file:
            rows.append(_row(file, one, "taken"))
        elif copy_of != file:
            rows.append(_row(file, one, "left out", f"the same bytes as {copy_of.name}"))
        elif one is None:
            rows.append(_row(file, None, "left out", _why_unknown(facts)))
        elif taken is None:
            rows.append(_row(file, one, "left out", f"for {titles[one.game]}"))
        else:
            same = taken.known.facts.version == one.facts.version
            why = f"{taken.file.name} is " + ("the same release in other bytes" if same else "newer")
            rows.append(_row(file, one, "left out", why))
    rows.sort(key=lambda row: (row.state != "taken", row.item or row.path, row.path))
    return next(game for game in rules if game.id == chosen), list(newest.values()), [*rows, *_aside(folder)]


def _row(file: Path, one: Described | None, state: FileState, why: str = "") -> FolderFile:
    item, version = (one.facts.id, one.facts.version.text) if one is not None else ("", "")
    return FolderFile(path=printable(file.name, 120), state=state, item=item, version=version, why=why)


def _why_unknown(one: ScannedFile) -> str:
    """Why a file is no content of any game: the first finding that says so."""
    severe = sorted(one.findings, key=lambda finding: finding.severity != "error")
    missing = "no metadata of a loader; describe it: rhizon catalog describe FILE"
    return next((found.what for found in severe if found.code != "metadata-missing"), missing)


def _aside(folder: Path) -> list[FolderFile]:
    """What is not read at all, by its place or ending."""
    aside = files_aside(folder)
    whys = ((aside.below, "in a folder below"), (aside.renamed, "disabled by its ending"))
    rows = [FolderFile(path=printable(path, 120), state="left out", why=why) for paths, why in whys for path in paths]
    if aside.others:
        some = ", ".join(printable(one, 60) for one in aside.others[:4]) + (" …" if len(aside.others) > 4 else "")
        rows.append(FolderFile(path=some, state="left out", why="not an archive"))
    return rows

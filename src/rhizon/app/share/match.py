"""Whether a player can join: a folder, a listing, a log or a kit of theirs, against a server or a kit."""

import os
import stat
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.files import hash_file, read_bytes
from rhizon.adapters.zip_out import write_zip
from rhizon.app.choose.kit_file import is_kit, read_kit
from rhizon.app.host import Host
from rhizon.app.instance.state import require_instance_state
from rhizon.app.reporter import Reporter
from rhizon.app.share.players_need import page_texts, players_need
from rhizon.core.errors import InputError, TrustError
from rhizon.core.kit.judge import BLOCKING, Fit, Seen, SeenFile, Verdict, judge, mark_for, read_mark, worth_hashing
from rhizon.core.kit.listing import is_log, judge_log, parse_listing
from rhizon.core.kit.readme import fit_lines, problem_words
from rhizon.core.kit.zipped import GAME, packed_files
from rhizon.core.model.kit import KitManifest
from rhizon.core.names import printable

__all__ = ["MatchResult", "Mismatch", "match", "seen_folder"]

MOST_FILES = 200_000
LARGEST_TEXT = 64 << 20
LARGEST_MARK = 64 << 10
Form = Literal["folder", "listing", "log", "kit"]


class Mismatch(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that differs: whether it keeps the player out, what it is, and what to do."""

    kind: str
    blocks: bool
    id: str
    path: str
    have: str
    need: str
    what: str
    step: str


class MatchResult(msgspec.Struct, frozen=True, kw_only=True):
    """The answer. ``verdict`` is "yes", "no", or "unknown" where what was given does not say enough; ``form`` what that
    was; ``base`` where in it the game's folder is; ``unread`` how many files could not be read. ``archive`` has just
    what is missing, "" where none was made."""

    server: str
    of: str
    form: Form
    verdict: Verdict
    base: str
    files: int
    unread: int
    mismatches: tuple[Mismatch, ...]
    lines: tuple[str, ...]
    archive: str


def match(host: Host, server: Path, theirs: Path, reporter: Reporter, *, archive: Path | None = None) -> MatchResult:
    """``server`` is a server's folder or a kit, ``theirs`` a player's folder, a text (a listing or a log) or a kit;
    ``archive`` is a zip to write with what they lack. Raises InputError, DocumentError, :class:`StateError`."""
    if not theirs.exists():
        raise InputError("no-such-file", f"there is nothing at {theirs}", hint="Check the path.")
    manifest, held = _manifest(host, server, reporter)
    reporter.step(f"looking into {printable(theirs.name, 60)}")
    form, fit, files, unread = _fit(manifest, theirs, reporter)
    texts = page_texts()
    mismatches = []
    for one in fit.problems:
        what, step = problem_words(texts, one)
        mismatches.append(
            Mismatch(
                kind=one.kind,
                blocks=one.kind in BLOCKING,
                id=one.id,
                path=printable(one.path),
                have=printable(one.have),
                need=one.need,
                what=printable(what, 400),
                step=printable(step, 400),
            )
        )
    written = ""
    if archive is not None and fit.wanted:
        entries = list(_wanted(host, manifest, fit, held))
        if entries:
            write_zip(archive, entries)
            written = str(archive)
    lines = [printable(line, 800) for line in fit_lines(texts, fit, len(manifest.pieces))]
    return MatchResult(
        server=manifest.server,
        of=str(theirs),
        form=form,
        verdict=fit.verdict,
        base=printable(fit.base),
        files=files,
        unread=unread,
        mismatches=tuple(mismatches),
        lines=(texts[fit.verdict], *lines),
        archive=written,
    )


def _manifest(host: Host, server: Path, reporter: Reporter) -> tuple[KitManifest, Mapping[str, bytes] | None]:
    """What is needed; of a kit with its files, of a server they are in the store."""
    if server.is_file():
        return read_kit(server)
    state = require_instance_state(host, host.home(server).required())
    return players_need(host, state, reporter), None


def _fit(manifest: KitManifest, theirs: Path, reporter: Reporter) -> tuple[Form, Fit, int, int]:
    if theirs.is_dir():
        seen, unread = seen_folder(manifest, theirs, reporter)
        return "folder", judge(manifest, seen), len(seen.files), unread
    if is_kit(theirs):
        other, _ = read_kit(theirs)
        if other.game != manifest.game:
            raise InputError(
                "other-game",
                f"{theirs} is a kit for {other.game_title}, the server runs {manifest.game_title}",
                hint="Give the kit that the player has for this server.",
            )
        files = [file for piece in other.pieces for file in piece.files] + list(other.overlay)
        files += other.loader.files if other.loader is not None else ()
        marks: dict[str, tuple[str, str]] = {}
        if other.loader_mark is not None and other.loader is not None:
            marks[other.loader_mark.file] = (other.loader.id, other.loader.build.text)
        if manifest.game_mark is not None:
            marks[manifest.game_mark.file] = ("", other.game_version)
        for piece in other.pieces:
            mark = other.versions.get(piece.kind)
            if piece.folder and mark is not None:
                marks[f"{piece.place}/{mark.file}"] = (piece.id, piece.version.text)
        seen = Seen(
            files=tuple(SeenFile(path=one.path, size=one.size, sha256=one.sha256) for one in files), marks=marks
        )
        return "kit", judge(manifest, seen), len(seen.files), 0
    text = read_bytes(theirs, "listing or log", LARGEST_TEXT, pipes=True).decode("utf-8-sig", "replace")
    if is_log(manifest, text):
        return "log", judge_log(manifest, text), 0, 0
    seen = parse_listing(text)
    if not seen.files:
        raise InputError(
            "no-listing",
            f"{theirs} lists no files",
            hint="Give a folder, a kit, the game's log, or the output of sha256sum, ls -lR or dir /s.",
        )
    return "listing", judge(manifest, seen), len(seen.files), 0


def seen_folder(manifest: KitManifest, folder: Path, reporter: Reporter) -> tuple[Seen, int]:
    """A folder as it is compared, with the hashes of what matters; and how many files could not be read. Links are not
    followed. Raises InputError for one with too many files."""
    root = folder.absolute()
    sizes = dict(_walk(root))
    wanted = set(worth_hashing(manifest, sizes.items()))
    files, marks, unread = [], {}, 0
    for number, (path, size) in enumerate(sorted(sizes.items())):
        if path not in wanted:
            files.append(SeenFile(path=path, size=size))
            continue
        reporter.progress(f"reading {path}", number / len(sizes))
        file = root.parent / path
        try:
            sha256, _ = hash_file(file)
            pattern = mark_for(manifest, path)
            said = read_mark(pattern, _text(file)) if pattern is not None and size <= LARGEST_MARK else None
        except OSError:
            unread += 1
            files.append(SeenFile(path=path, size=size))
            continue
        files.append(SeenFile(path=path, size=size, sha256=sha256))
        if said is not None:
            marks[path] = said
    for path in (one for one in sizes if one not in wanted):
        pattern = mark_for(manifest, path)
        if pattern is not None and sizes[path] <= LARGEST_MARK:
            try:
                said = read_mark(pattern, _text(root.parent / path))
            except OSError:
                continue
            if said is not None:
                marks[path] = said
    return Seen(files=tuple(files), marks=marks), unread


def _text(file: Path) -> str:
    return file.read_bytes()[:LARGEST_MARK].decode("utf-8", "replace")


def _walk(root: Path) -> Iterator[tuple[str, int]]:
    """Ordinary files, their paths beginning with the folder's own name, and their sizes."""
    count = 0
    for folder, names, files in os.walk(root):
        names.sort()
        for name in files:
            path = Path(folder, name)
            try:
                facts = path.lstat()
            except OSError:
                continue
            if not stat.S_ISREG(facts.st_mode):
                continue
            count += 1
            if count > MOST_FILES:
                raise InputError(
                    "too-many-files", f"{root} has more than {MOST_FILES} files", hint="Name the game's own folder."
                )
            yield os.fsencode(path.relative_to(root.parent)).decode("utf-8", "replace"), facts.st_size


def _wanted(
    host: Host, manifest: KitManifest, fit: Fit, held: Mapping[str, bytes] | None
) -> Iterator[tuple[str, bytes]]:
    """The files that the player has to put there. Raises TrustError for bytes that are not those of the manifest."""
    for file in packed_files(manifest, fit.wanted):
        if held is None:
            yield f"{GAME}{file.path}", host.store.read(file.sha256, file.path)
        elif file.path in held:
            yield f"{GAME}{file.path}", held[file.path]
        else:
            raise TrustError("kit-incomplete", f"the kit lacks {file.path}", hint="Ask for a whole kit.")

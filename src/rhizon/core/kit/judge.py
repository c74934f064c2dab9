"""Whether a player can join: what a folder has, against what a kit's manifest asks for.

The same rules are in the page's script (``rhizon/page/judge.js``); shared vectors hold the two together. So this keeps
to what both languages do alike: plain loops over text, in the order of the manifest.
"""

import re
import unicodedata
from collections.abc import Iterable, Mapping, Sequence
from typing import Literal

import msgspec

from rhizon.core.model.kit import KitFile, KitManifest, KitPiece

__all__ = [
    "BLOCKING",
    "Fit",
    "Problem",
    "ProblemKind",
    "Seen",
    "SeenFile",
    "Verdict",
    "judge",
    "judge_loaded",
    "mark_for",
    "plain",
    "read_mark",
    "stem",
    "worth_hashing",
]

Verdict = Literal["yes", "no", "unknown"]
ProblemKind = Literal[
    "missing", "other-release", "truncated", "changed", "wrong-folder", "two-releases", "clash", "no-loader",
    "wrong-loader", "wrong-game", "not-allowed", "unknown", "optional-differs", "settings-differ",
]  # fmt: skip
BLOCKING: frozenset[str] = frozenset(
    {"missing", "other-release", "truncated", "changed", "wrong-folder", "two-releases", "clash", "no-loader",
     "wrong-loader", "wrong-game", "not-allowed"}
)  # fmt: skip
LONGEST_LINE = 1000
_VERSION = re.compile(r"[-_ .]v?[0-9].*$")
_ENDING = re.compile(r"\.[A-Za-z]{2,4}$")


class SeenFile(msgspec.Struct, frozen=True, kw_only=True):
    """A file that is there; size in bytes and SHA-256 where they are known."""

    path: str
    size: int | None = None
    sha256: str | None = None


class Seen(msgspec.Struct, frozen=True, kw_only=True):
    """A folder: its files, their paths beginning with its own name, and what files that say a version say (id, or "",
    and version) by their path. ``whole``: all of it was looked at."""

    files: tuple[SeenFile, ...]
    marks: dict[str, tuple[str, str]] = {}
    whole: bool = True


class Problem(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that is wrong: what (``id`` and ``title`` of content, or a path), what is there and what is needed."""

    kind: ProblemKind
    id: str = ""
    title: str = ""
    path: str = ""
    have: str = ""
    need: str = ""


class Fit(msgspec.Struct, frozen=True, kw_only=True):
    """The answer: whether the player can join. ``base`` is where in what was chosen the game's folder is; ``wanted``
    the ids of pieces, and "loader", whose files a player has to put there."""

    verdict: Verdict
    base: str
    problems: tuple[Problem, ...]
    wanted: tuple[str, ...]


def read_mark(pattern: str, text: str) -> tuple[str, str] | None:
    """Id ("" where no line has one) and version, each from the first line that has it; None without a version."""
    compiled = re.compile(pattern)
    said = {"id": "", "version": ""}
    for line in text.splitlines()[:200]:
        match = compiled.search(line[:LONGEST_LINE])
        for name, value in match.groupdict().items() if match is not None else ():
            if value and not said.get(name):
                said[name] = value
    return (said["id"], said["version"]) if said["version"] else None


def worth_hashing(manifest: KitManifest, files: Iterable[tuple[str, int]]) -> list[str]:
    """The paths of a folder whose contents matter: by their name, or since something that is known has their size, in
    bytes. What is neither cannot be anything that the manifest knows."""
    names, sizes = set(), {one.size for one in manifest.others}
    pieces = [file for piece in manifest.pieces for file in piece.files]
    for file in [*pieces, *manifest.overlay, *_loader_files(manifest)]:
        names.add(plain(file.path).rpartition("/")[2])
        sizes.add(file.size)
    return [path for path, size in files if size in sizes or plain(path).rpartition("/")[2] in names]


def mark_for(manifest: KitManifest, path: str) -> str | None:
    """The pattern by which a file says a version; None for a file that says none."""
    here = f"/{plain(path)}"
    marks = [manifest.loader_mark, manifest.game_mark, *manifest.versions.values()]
    return next((mark.pattern for mark in marks if mark is not None and here.endswith(f"/{plain(mark.file)}")), None)


def _loader_files(manifest: KitManifest) -> tuple[KitFile, ...]:
    return manifest.loader.files if manifest.loader is not None else ()


def plain(path: str) -> str:
    """A path as it is compared: with slashes, composed, and without regard to capitals."""
    text = unicodedata.normalize("NFC", path.replace("\\", "/")).lower()
    return "/".join(part for part in text.split("/") if part not in ("", "."))


def stem(path: str) -> str:
    """The name of a file without ending and version: how other releases of it are called, too."""
    name = plain(path).rpartition("/")[2]
    return _VERSION.sub("", _ENDING.sub("", name))


def _base(needed: Iterable[str], there: Sequence[str]) -> str:
    """What stands before the game's own paths: what most needed files have before them."""
    ends: dict[str, list[str]] = {}
    for path in there:
        ends.setdefault(path.rpartition("/")[2], []).append(path)
    counts: dict[str, int] = {}
    for one in needed:
        for path in ends.get(one.rpartition("/")[2], ()):
            if path == one or path.endswith(f"/{one}"):
                before = path[: len(path) - len(one)]
                counts[before] = counts.get(before, 0) + 1
    if counts:
        return min(counts, key=lambda before: (-counts[before], len(before), before))
    first = there[0].partition("/") if there else ("", "", "")
    return f"{first[0]}/" if first[1] and all(path.startswith(f"{first[0]}/") for path in there) else ""


class _Folder:
    """What is there, by its path below the game's folder; with what a big folder is searched by."""

    def __init__(self, manifest: KitManifest, seen: Seen) -> None:
        paths = [plain(one.path) for one in seen.files]
        needed = [plain(file.path) for piece in manifest.pieces for file in piece.files]
        needed += [plain(file.path) for file in _loader_files(manifest)]
        needed += [plain(mark.file) for mark in (manifest.loader_mark, manifest.game_mark) if mark is not None]
        self.base = _base(needed, paths)
        self.files = {self._below(path): one for path, one in zip(paths, seen.files, strict=True)}
        self.marks = {self._below(plain(path)): said for path, said in seen.marks.items()}
        self.hashes: dict[str, list[str]] = {}
        self.beside: dict[str, list[str]] = {}  # by the folder that they lie in
        self.folders: set[str] = set()
        self._names: dict[str, list[str]] = {}
        for path in sorted(self.files):
            near, _, name = path.rpartition("/")
            self.beside.setdefault(near, []).append(path)
            self._names.setdefault(name, []).append(path)
            sha256 = self.files[path].sha256
            if sha256 is not None:
                self.hashes.setdefault(sha256, []).append(path)
            while near and near not in self.folders:
                self.folders.add(near)
                near = near.rpartition("/")[0]
        self.said: dict[str, list[tuple[str, str]]] = {}  # paths of marks and versions by id
        for path in sorted(self.marks):
            name, version = self.marks[path]
            self.said.setdefault(name, []).append((path, version))
        self.content = [plain(one) for one in manifest.content]
        self._stems: dict[str, dict[str, list[str]]] = {}
        self._known = {one.sha256: (one.id, one.version.text) for one in manifest.others}
        self._releases: dict[str, dict[str, list[str]]] = {}

    def known(self, path: str) -> tuple[str, str] | None:
        """Which other release a file is, where that is known: id and version."""
        return self._known.get(self.files[path].sha256 or "")

    def like(self, near: str, called: str, name: str) -> list[str]:
        """Files in a folder that are known as releases of the content ``name``, or that nobody knows and are called
        so without their versions; in order."""
        if near not in self._stems:
            stems, releases = self._stems.setdefault(near, {}), self._releases.setdefault(near, {})
            for path in self.beside.get(near, ()):
                said = self.known(path)
                if said is None:
                    stems.setdefault(stem(path), []).append(path)
                else:
                    releases.setdefault(said[0], []).append(path)
        return sorted([*self._stems[near].get(called, ()), *self._releases[near].get(name, ())])

    def _below(self, path: str) -> str:
        return path[len(self.base) :] if path.startswith(self.base) else f"../{path}"

    def called(self, need: KitFile) -> list[str]:
        """Files of that name whose contents are not known, and may be the right ones."""
        named = self._names.get(plain(need.path).rpartition("/")[2], [])
        return [
            path for path in named if self.files[path].sha256 is None and self.files[path].size in (None, need.size)
        ]

    def in_content(self) -> list[str]:
        """What lies directly in a folder of content, in order."""
        return sorted({path for near in self.content for path in self.beside.get(near, [])})


def judge(manifest: KitManifest, seen: Seen) -> Fit:
    """Compares. What is only there for one's own pleasure is left alone; settings that differ are told, no more."""
    folder = _Folder(manifest, seen)
    problems = [*_game(manifest, folder), *_loader(manifest, folder)]
    for piece in manifest.pieces:
        problems += _unpacked(manifest, piece, folder) if piece.folder else _archive(piece, folder)
    problems += _clashes(manifest, folder)
    problems += _not_allowed(manifest, folder, problems) if manifest.strict else ()
    problems += _overlay(manifest, folder)
    wanted = []
    for one in problems:
        name = "loader" if one.kind in ("no-loader", "wrong-loader") else one.id
        again = ("missing", "other-release", "truncated", "changed", "wrong-folder", "no-loader", "wrong-loader")
        if one.kind in again and name not in wanted:
            wanted.append(name)
    if any(one.kind in BLOCKING for one in problems):
        verdict: Verdict = "no"
    else:
        verdict = "unknown" if any(one.kind == "unknown" for one in problems) or not seen.whole else "yes"
    return Fit(verdict=verdict, base=folder.base, problems=tuple(problems), wanted=tuple(wanted))


def _game(manifest: KitManifest, folder: _Folder) -> Iterable[Problem]:
    said = folder.marks.get(plain(manifest.game_mark.file)) if manifest.game_mark is not None else None
    if said is not None and not manifest.lets_in(said[1]):
        yield Problem(kind="wrong-game", title=manifest.game_title, have=said[1], need=manifest.game_version)


def _loader(manifest: KitManifest, folder: _Folder) -> Iterable[Problem]:
    loader = manifest.loader
    if loader is None:
        return
    need = f"{loader.title} {loader.build.text}"
    said = folder.marks.get(plain(manifest.loader_mark.file)) if manifest.loader_mark is not None else None
    if said is not None:
        if (said[0] or loader.id) != loader.id or said[1] != loader.build.text:
            have = f"{said[0]} {said[1]}" if said[0] not in ("", loader.id) else f"{loader.title} {said[1]}"
            yield Problem(kind="wrong-loader", title=loader.title, have=have, need=need)
            return
    elif manifest.loader_mark is not None and plain(manifest.loader_mark.file) not in folder.files:
        yield Problem(kind="no-loader", title=loader.title, need=need)
        return
    for file in loader.files:
        state = _state(file, folder.files.get(plain(file.path)))
        if state in ("missing", "truncated", "changed"):
            yield Problem(kind="no-loader", title=loader.title, path=file.path, need=need)
            return
        if state == "unknown":
            yield Problem(kind="unknown", title=loader.title, path=file.path, need=loader.build.text)
            return


def _state(need: KitFile, have: SeenFile | None) -> Literal["good", "missing", "truncated", "changed", "unknown"]:
    """How a file is, by what is known of it."""
    if have is None:
        return "missing"
    if have.sha256 is not None:
        if have.sha256 == need.sha256:
            return "good"
    elif have.size is None or have.size == need.size:
        return "unknown"
    return "truncated" if have.size is not None and have.size < need.size else "changed"


def _archive(piece: KitPiece, folder: _Folder) -> list[Problem]:
    """A piece that is one file."""
    (file,) = piece.files
    place = plain(piece.place)
    near = place.rpartition("/")[0]
    told = {"id": piece.id, "title": piece.title, "need": piece.version.text}
    state = _state(file, folder.files.get(place))
    good = [path for path in folder.hashes.get(file.sha256, ()) if path.rpartition("/")[0] == near]
    if state in ("missing", "changed", "truncated") and good:
        state = "good"  # under another name, which the game does not mind
    others = _other_releases(piece, folder, [place, *good])
    problems: list[Problem] = []
    if state in ("truncated", "changed"):
        said = folder.known(place)
        if said is not None and said[0] == piece.id:
            problems.append(_needed(piece, Problem(kind="other-release", path=piece.place, have=said[1], **told)))
        else:
            problems.append(Problem(kind=state, path=piece.place, **told))
    elif state == "unknown":
        problems.append(Problem(kind="unknown", path=piece.place, **told))
    elif state == "missing":
        elsewhere = folder.hashes.get(file.sha256, []) or folder.called(file)
        if elsewhere:
            found = Problem(kind="wrong-folder", path=elsewhere[0], have=elsewhere[0], **{**told, "need": piece.place})
            problems.append(_needed(piece, found))
        elif others:
            path, have = others.pop(0)
            problems.append(_needed(piece, Problem(kind="other-release", path=path, have=have, **told)))
        elif not piece.optional:
            problems.append(Problem(kind="missing", path=piece.place, **told))
    problems += [Problem(kind="two-releases", path=path, have=have, **told) for path, have in others]
    return problems


def _needed(piece: KitPiece, problem: Problem) -> Problem:
    """The same; of what a player may leave out it is no more than worth knowing."""
    return msgspec.structs.replace(problem, kind="optional-differs") if piece.optional else problem


def _other_releases(piece: KitPiece, folder: _Folder, own: Sequence[str]) -> list[tuple[str, str]]:
    """Files beside the piece that are other releases of it, by their hash or else by their name, with the version."""
    (file,) = piece.files
    ending = _ending(piece.place)
    found = []
    for path in folder.like(plain(piece.place).rpartition("/")[0], stem(piece.place), piece.id):
        said = folder.known(path)
        if path in own:
            continue
        if said is not None:
            found.append((path, said[1]))
        elif folder.files[path].sha256 != file.sha256 and path.endswith(ending):
            found.append((path, path.rpartition("/")[2]))
    return found


def _ending(path: str) -> str:
    match = _ENDING.search(plain(path))
    return match[0] if match is not None else ""


def _unpacked(manifest: KitManifest, piece: KitPiece, folder: _Folder) -> list[Problem]:
    """A piece that is a folder."""
    place = plain(piece.place)
    near = place.rpartition("/")[0]
    mark = manifest.versions.get(piece.kind)
    told = {"id": piece.id, "title": piece.title, "need": piece.version.text}
    homes = [
        (path[: len(path) - len(plain(mark.file)) - 1], version)
        for path, version in (folder.said.get(piece.id, ()) if mark is not None else ())
        if mark is not None and path.endswith(f"/{plain(mark.file)}")
    ]
    here = [(home, version) for home, version in homes if home.rpartition("/")[0] == near]
    if not here and place in folder.folders:
        here = [(place, "")]
    if not here:
        if homes:
            found = Problem(kind="wrong-folder", path=homes[0][0], have=homes[0][0], **{**told, "need": piece.place})
            return [_needed(piece, found)]
        return [] if piece.optional else [Problem(kind="missing", path=piece.place, **told)]
    here.sort(key=lambda one: (one[0] != place, one[1] != piece.version.text, one[0]))
    (home, version), *more = here
    problems = [Problem(kind="two-releases", path=path, have=have, **told) for path, have in more]
    if version not in ("", piece.version.text):
        other = Problem(kind="other-release", path=home, have=version, **told)
        return [_needed(piece, other), *problems]
    for file in piece.files:
        path = f"{home}{plain(file.path)[len(place) :]}"
        state = _state(file, folder.files.get(path))
        if state != "good":
            kind: ProblemKind = "truncated" if state == "missing" else state
            return [Problem(kind=kind, path=path, **told), *problems]
    return problems


def _clashes(manifest: KitManifest, folder: _Folder) -> list[Problem]:
    """Content of the player's own that cannot be beside the server's."""
    titles = {one.id: one.title for one in manifest.pieces}
    there = [(path, folder.known(path)) for path in folder.in_content()]
    unknown = [(path, stem(path)) for path, said in there if said is None] if manifest.clashes else []
    problems = []
    for clash in manifest.clashes:
        versions = [one.text for one in clash.versions]
        told = {"id": clash.id, "title": clash.title, "need": titles.get(clash.beside, "")}
        paths = [path for path, said in there if said is not None and said[0] == clash.id and said[1] in versions]
        paths += [path for path, name in unknown if name in clash.names]
        problems += [Problem(kind="clash", path=path, **told) for path in sorted(paths)]
        for path, version in folder.said.get(clash.id, ()):
            if version in versions:
                problems.append(Problem(kind="clash", path=path.rpartition("/")[0], **told))
    return problems


def _not_allowed(manifest: KitManifest, folder: _Folder, told: Sequence[Problem]) -> list[Problem]:
    """Content that a strict server does not have."""
    ours = {one.id for one in manifest.pieces}
    places = {plain(one.place) for one in manifest.pieces}
    endings = {_ending(one.place) for one in manifest.pieces if not one.folder}
    hashes = {file.sha256 for one in manifest.pieces for file in one.files}
    said = {one.path for one in told}
    problems = []
    for path in folder.in_content():
        here = path not in places and path not in said and folder.files[path].sha256 not in hashes
        if here and any(ending and path.endswith(ending) for ending in endings):
            problems.append(Problem(kind="not-allowed", title=path.rpartition("/")[2], path=path))
    for path, (name, version) in sorted(folder.marks.items()):
        home = path.rpartition("/")[0]
        if name and name not in ours and home not in said and home.rpartition("/")[0] in folder.content:
            problems.append(Problem(kind="not-allowed", id=name, title=name, path=home, have=version))
    return problems


def _overlay(manifest: KitManifest, folder: _Folder) -> list[Problem]:
    """Settings that the pack brings: players may change them."""
    return [
        Problem(kind="settings-differ", path=file.path)
        for file in manifest.overlay
        if _state(file, folder.files.get(plain(file.path))) not in ("good", "unknown")
    ]


def judge_loaded(manifest: KitManifest, loaded: Mapping[str, Sequence[str]], loader: str, game: str) -> Fit:
    """By what a client said that it loaded: versions of each id, and the loader's and the game's own ("" where it said
    nothing)."""
    problems: list[Problem] = []
    if game and not manifest.lets_in(game):
        problems.append(Problem(kind="wrong-game", title=manifest.game_title, have=game, need=manifest.game_version))
    needs = manifest.loader
    if needs is not None and loader and loader != needs.build.text:
        told = f"{needs.title} {needs.build.text}"
        problems.append(Problem(kind="wrong-loader", title=needs.title, have=f"{needs.title} {loader}", need=told))
    for piece in manifest.pieces:
        told_piece = {"id": piece.id, "title": piece.title, "need": piece.version.text}
        versions = list(dict.fromkeys(loaded.get(piece.id, ())))
        if not versions:
            if not piece.optional:
                problems.append(Problem(kind="missing", path=piece.place, **told_piece))
        elif piece.version.text not in versions:
            other = Problem(kind="other-release", path=piece.place, have=versions[0], **told_piece)
            problems.append(_needed(piece, other))
    titles = {one.id: one.title for one in manifest.pieces}
    for clash in manifest.clashes:
        for version in loaded.get(clash.id, ()):
            if version in [one.text for one in clash.versions]:
                need = titles.get(clash.beside, "")
                problems.append(Problem(kind="clash", id=clash.id, title=clash.title, path=clash.id, need=need))
    verdict: Verdict = "no" if any(one.kind in BLOCKING for one in problems) else "yes"
    wanted = tuple(one.id for one in problems if one.kind in ("missing", "other-release"))
    return Fit(verdict=verdict, base="", problems=tuple(problems), wanted=wanted)

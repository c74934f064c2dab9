"""Rules on what is in the content folders, whoever put it there."""

from collections.abc import Iterator

from rhizon.core.archives.facts import ArchiveFacts
from rhizon.core.check.finding import error, note, warning
from rhizon.core.check.observation import ContentFile, Observation
from rhizon.core.content_paths import enabled_name, loaded
from rhizon.core.finding import Finding
from rhizon.core.settings.apply import name_in
from rhizon.core.settings.load_order import misplaced
from rhizon.core.version import Version, parse_version
from rhizon.core.words import command_line

__all__ = [
    "conflicts",
    "copies",
    "enabled",
    "for_this_server",
    "leftovers",
    "order",
    "places",
    "together",
    "wrong_by_itself",
]

_OUT = "Remove it from the folder, or get a release that fits and add it to the list."
# What is wrong with one archive whatever server it is on.
_BY_ITSELF = ("client-only-code", "entry-unusable", "entry-missing", "class-broken", "signature-broken")


def _strays(seen: Observation) -> Iterator[ContentFile]:
    return (one for one in seen.content if not one.placed)


def _facts(one: ContentFile) -> ArchiveFacts | None:
    return one.archive.facts if one.archive is not None else None


def wrong_by_itself(seen: Observation) -> Iterator[Finding]:
    """What any server cannot load; of files that Rhizon did not place, also what is no archive at all."""
    for one in seen.content:
        for found in one.findings:
            if found.severity == "error" and (found.code in _BY_ITSELF or not one.placed):
                described = found.code == "metadata-broken"  # a description of ours is of no use to a loader
                yield error(found.code, one.path, found.what, _OUT if described else found.remedy or _OUT)


def for_this_server(seen: Observation) -> Iterator[Finding]:
    """Archives put there by hand that are for another loader, build or game version, for players, or misplaced."""
    target, game = seen.lock.target, seen.game
    for one in _strays(seen):
        facts = _facts(one)
        if facts is None or one.archive is None or one.archive.game != game.id:
            continue
        builds = facts.loaders.get(target.loader)
        if facts.loaders and builds is None:
            what = f"it is for {', '.join(facts.loaders)}, and the server uses {target.loader}"
            yield warning("wrong-loader", one.path, f"{what}: it is not loaded", _OUT)
        elif builds is not None and target.loader_build is not None and not builds.admits(target.loader_build):
            what = f"it is for {target.loader} {builds}, and the server has {target.loader_build}"
            yield error("wrong-loader-build", one.path, what, _OUT)
        version = _version(target.game_version)
        if version is not None and not facts.game_versions.admits(version):
            what = f"it is for {game.title} {facts.game_versions}, and the server is {target.game_version}"
            yield error("wrong-game-version", one.path, what, _OUT)
        if one.archive.placement == "player" and not any(x.code == "client-only-code" for x in one.findings):
            yield error("for-players-only", one.path, "it is for players only", "Remove it from the server.")
        folder = game.folders.get(facts.kind)
        if folder is not None and folder != one.folder:
            what = f"it is a {facts.kind}, and the server looks for those in {folder}/"
            yield error("wrong-folder", one.path, what, f"Move it to {folder}/.")


def _version(text: str) -> Version | None:
    try:
        return parse_version(text)
    except ValueError:
        return None


def copies(seen: Observation) -> Iterator[Finding]:
    """The same bytes twice in one folder: loaders refuse two, or load either."""
    placed = {one.sha256: one for one in seen.content if one.placed}
    for one in _strays(seen):
        other = placed.get(one.sha256)
        if other is not None and other.folder == one.folder and _facts(one) is not None:
            what = f"it is a copy of {other.path}: the loader finds one item twice"
            yield error("same-id", one.path, what, "Delete the copy.")


def conflicts(seen: Observation) -> Iterator[Finding]:
    """Content that says that it does not work beside other content that is there."""
    known = [(one, facts) for one in seen.content if (facts := _facts(one)) is not None]
    for one, facts in known:
        for clash in facts.conflicts:
            for other, its in known:
                if its.id == clash.id and clash.range.admits(its.version) and not (one.placed and other.placed):
                    what = f"{facts.id} does not work beside {its.id} {its.version} ({other.path})"
                    yield warning("content-conflict", one.path, what, "Remove one of the two.")


def together(seen: Observation) -> Iterator[Finding]:
    """The same item twice, what is missing, mixed kinds: of sets with something that was put there by hand."""
    yield from seen.together


def places(seen: Observation) -> Iterator[Finding]:
    """Archives where nothing loads them."""
    for path in seen.odd_files:
        what = "it is no ordinary file: a server that reads it may wait for ever"
        yield error("odd-file", path, what, "Remove it from the folder.")
    for path in seen.in_subfolders:
        yield warning("archives-below", path, "it is in a folder below, where it is not loaded", "Move it up.")
    for path in seen.disabled:
        yield note("archives-aside", path, "it is disabled by its ending", "Restore the ending if you want it.")
    for is_there, wanted in seen.folders_by_case.items():
        what = f"the server looks for {wanted}/, and this is another folder on this system"
        yield warning("folder-case", is_there, what, f"Rename it to {wanted}.")


def enabled(seen: Observation) -> Iterator[Finding]:
    """A list of what is loaded that names what is not there, or does not name what is."""
    loader = seen.game.loaders[seen.lock.target.loader]
    place = loader.enabled
    file = seen.file(place.file) if place is not None else None
    if place is None or file is None or not file.exists or file.broken:
        return
    called = {one.id: enabled_name(seen.game, seen.lock, one) for one in seen.lock.on_server()}
    here = {facts.id for one in seen.content if (facts := _facts(one)) is not None} | set(called.values())
    here |= {one.path if loader.enabled_as == "path" else one.path.rpartition("/")[2] for one in seen.content}
    named = {name for key in file.values if (name := name_in(place, key)) is not None}
    for name in sorted(named - here):
        yield warning("enabled-missing", file.path, f"it names {name}, which is not there", "Remove it from the list.")
    for one in loaded(seen.game, seen.lock):
        if called[one.id] not in named:
            what = f"{one.id} is there and {file.path} does not name it: the server starts without it"
            yield warning("content-not-enabled", one.id, what, f"Name it in {file.path}, or remove it from the list.")


def order(seen: Observation) -> Iterator[Finding]:
    """Content that is loaded before something that it needs, where the server loads it in the order of the lock."""
    loader = seen.game.loaders[seen.lock.target.loader]
    file = seen.file(loader.enabled.file) if loader.enabled is not None else None
    if file is not None and file.exists and not file.broken:
        for name, needed in misplaced(seen.game, seen.lock, file.values):
            what = f"{file.path} names it before {needed}, which is to be loaded first"
            remedy = f"Put the list in order: {command_line('rhizon', 'update', seen.folder)}"
            yield error("content-order", name, what, remedy)
    if not any("{content}" in word for word in loader.command):
        return
    before: set[str] = set()
    coming = {one.id: one for one in loaded(seen.game, seen.lock)}
    for one in list(coming.values()):
        before.add(one.id)
        for other in coming.values():
            if one.id in other.because and other.id not in before:
                what = f"it is loaded before {other.id}, which it needs"
                remedy = f"Solve the order again: {command_line('rhizon', 'update', seen.folder)}"
                yield error("content-order", one.id, what, remedy)


def leftovers(seen: Observation) -> Iterator[Finding]:
    """Files of a loader that the server does not use."""
    for path, title in seen.other_loaders.items():
        what = f"it belongs to {title}, which this server does not use"
        yield warning("loader-leftover", path, what, f"Delete it, if nothing else needs it: {path}")

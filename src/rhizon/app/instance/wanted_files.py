"""From a lock to the files that an instance should have, every one of them in the store."""

import os
import subprocess
import tempfile
from collections.abc import Iterator, Mapping
from pathlib import Path

import msgspec

from rhizon.adapters.files import read_bytes, translated
from rhizon.adapters.store import Store
from rhizon.app.instance.server_tree import read_tree
from rhizon.core.archives.entries import Archive
from rhizon.core.content_paths import place_inside, place_of, unpacked
from rhizon.core.errors import RemoteError, StateError
from rhizon.core.launch import fill
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import RuntimeChoice
from rhizon.core.model.lock import LaidFile, Lock, LockedFile, LockedRelease
from rhizon.core.names import RelPath, printable, safe_path
from rhizon.core.plan import WantedFile
from rhizon.core.units import counted

__all__ = ["locked_files", "wanted_files"]

INSTALLER_SECONDS = 600


def locked_files(lock: Lock) -> list[LockedFile]:
    """What the server needs from the catalogs; of server files that are in a folder only the document about them."""
    loader = [lock.loader.file] if lock.loader is not None else []
    return [lock.server, *loader, *(one.file for one in lock.on_server())]


def wanted_files(
    lock: Lock,
    game: GameDefinition,
    store: Store,
    runtime: RuntimeChoice | None,
    *,
    allow_installer: bool,
) -> dict[RelPath, WantedFile]:
    """Every file with its origin. Later ones replace earlier ones: server, loader, content, pack.

    Raises TrustError for a hostile archive, :class:`StateError` for an installer that was not allowed or failed.
    """
    wanted: dict[RelPath, WantedFile] = {}
    tree = read_tree(store, lock)
    if tree is not None:
        for name, listed in tree.files.items():
            origin = f"{lock.server.catalog}:{lock.server_tree}/{name}"
            wanted[safe_path(name)] = WantedFile(
                sha256=listed.sha256, size=listed.size, origin=origin, executable=listed.executable
            )
    else:
        wanted |= _unpacked(store, lock.server, _origin(lock.server))
    if lock.loader is not None:
        file = lock.loader.file
        if lock.loader.install == "unpack":
            wanted |= _unpacked(store, file, _origin(file))
        else:
            for path, data in _installed(lock, file, game, store, runtime, allowed=allow_installer):
                wanted[path] = WantedFile(sha256=store.add(data), size=len(data), origin=_origin(file))
    server = set(wanted)  # what content may take the place of, once
    for release in lock.on_server():
        for path, one in _content(lock, game, store, release):
            if one.patches and path in server:
                wanted[path] = msgspec.structs.replace(one, origin=f"{one.origin}, in place of the server's own")
                server.discard(path)
                continue
            if path in wanted:
                raise StateError(
                    "names-clash",
                    f"two archives have the same path {path} ({wanted[path].origin}; {release.id} {release.version})",
                    hint="Exclude one of the two in the list, or report it to the catalog's maintainer.",
                )
            wanted[path] = one
    for path in game.settings_files & wanted.keys():
        wanted[path] = msgspec.structs.replace(wanted[path], edited=True)
    _refuse_overrides(lock, wanted)
    for laid in lock.overlay:
        wanted[laid.path] = _laid(lock, laid, store)
    missing = [path for path in (*game.server_files, *game.loaders[lock.target.loader].files) if path not in wanted]
    if missing:
        raise RemoteError(
            "server-incomplete",
            f"the catalog's server files or loader lack {', '.join(missing)}",
            hint="Report it to the catalog's maintainer, or correct the game definition.",
        )
    return wanted


def _refuse_overrides(lock: Lock, wanted: Mapping[RelPath, WantedFile]) -> None:
    """A pack lays over settings and files of its own. What the lock lists by hash, the server's program, the loader and
    content, would no longer be what it lists. Raises :class:`StateError`."""
    replaced = [one.path for one in lock.overlay if one.path in wanted and not wanted[one.path].edited]
    if replaced:
        raise StateError(
            "overlay-replaces",
            f"the pack would replace {counted(len(replaced), 'file')} of the server, its loader or its content: "
            f"{', '.join(replaced[:4])}",
            details=[f"{path} comes from {wanted[path].origin}" for path in replaced[:20]],
            hint="Ask the pack's author to remove them; a changed mod belongs in the pack's archives/ with its "
            "own version.",
        )


def _content(
    lock: Lock, game: GameDefinition, store: Store, release: LockedRelease
) -> Iterator[tuple[RelPath, WantedFile]]:
    """A release as it will be placed: its archive, or all that is in it."""
    file = release.file
    origin = f"{release.id} {release.version} ({_origin(file)})"
    if not unpacked(game, release):
        place = place_of(game, lock, release)
        yield place, WantedFile(sha256=file.sha256, size=file.size, origin=origin, linked=True)
        return
    for path, one in _unpacked(store, file, origin).items():
        placed = place_inside(game, lock, release, path)
        if placed is not None:
            patch, settings = placed.use == "patch", placed.use == "settings"
            yield placed.path, msgspec.structs.replace(one, patches=patch, edited=settings)


def _laid(lock: Lock, laid: LaidFile, store: Store) -> WantedFile:
    if not store.has(laid.sha256, laid.size):
        raise StateError(
            "pack-file-missing",
            f"{laid.path} is an overlay of the pack {lock.name} and is not in this machine's store",
            hint="Provision from the pack itself; a lock names its files but does not contain them.",
        )
    return WantedFile(sha256=laid.sha256, size=laid.size, origin=f"pack {lock.name}", edited=True)


def _origin(file: LockedFile) -> str:
    return f"{file.catalog}:{file.path}"


def _unpacked(store: Store, file: LockedFile, origin: str) -> dict[RelPath, WantedFile]:
    archive = Archive(store.read(file.sha256, file.path), file.path)
    return {
        path: WantedFile(sha256=store.add(data), size=len(data), origin=origin, executable=archive.executable(path))
        for path, data in archive.files()
    }


def _installed(
    lock: Lock, file: LockedFile, game: GameDefinition, store: Store, runtime: RuntimeChoice | None, *, allowed: bool
) -> Iterator[tuple[RelPath, bytes]]:
    """Runs the loader's own installer in an empty folder and takes what it left there."""
    target = lock.target
    rule = game.loaders[target.loader].installer
    name = f"{target.loader} {target.loader_build}"
    if rule is None:
        raise StateError(
            "no-installer-rule",
            f"{name} is an installer, and the game definition does not say how to run it",
            hint=f"Add [loaders.{target.loader}.installer] to the definition, or choose another build.",
        )
    if not allowed:
        raise StateError(
            "installer-not-allowed",
            f"{name} can only be installed by running its own installer program",
            details=["Rhizon does not run programs from a catalog unless you allow it"],
            hint="If you trust it, add --allow-installer; or choose another loader build in the list.",
        )
    with tempfile.TemporaryDirectory(prefix="rhizon-installer-") as scratch:
        folder = Path(scratch) / "server"
        folder.mkdir()
        archive = Path(scratch) / file.path.rpartition("/")[2]
        with translated("prepare the installer", archive):
            archive.write_bytes(store.read(file.sha256, file.path))
        words = {"runtime": runtime.program if runtime else "", "archive": str(archive), "folder": str(folder)}
        _run_installer(fill(rule.command, words, {}), folder, name)
        for made in sorted(folder.rglob("*")):
            if made.is_file() and not made.is_symlink():
                yield safe_path(made.relative_to(folder).as_posix()), read_bytes(made, "installed file")


def _run_installer(command: tuple[str, ...], folder: Path, name: str) -> None:
    """Runs a loader's installer in a scratch folder and answers the files that it makes. Raises StateError where it
    fails."""
    kept = {key: os.environ[key] for key in ("PATH", "HOME", "LANG", "TMPDIR", "SYSTEMROOT") if key in os.environ}
    try:
        done = subprocess.run(
            command,
            cwd=folder,
            env=kept,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            timeout=INSTALLER_SECONDS,
        )
        said = done.stdout.decode("utf-8", "replace").strip().splitlines()
        failed = f"it ended with exit code {done.returncode}" if done.returncode else ""
    except (OSError, subprocess.SubprocessError) as broken:
        said, failed = [], printable(str(broken), 200)
    if failed:
        raise StateError(
            "installer-failed",
            f"the installer of {name} failed: {failed}",
            details=[printable(line, 200) for line in said[-8:]],
            hint="Nothing was changed. Choose another build of the loader in the list.",
        )

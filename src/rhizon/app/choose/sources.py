"""What a server is made from: a content list, a pack (folder or ``.rhz``), a lock, a kit or a folder of archives."""

import hashlib
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import msgspec

from rhizon.adapters.files import FileBytes, read_bytes, translated, write_atomic
from rhizon.app.choose.kit_file import is_kit, kit_content_list
from rhizon.app.host import Host
from rhizon.app.reporter import Reporter
from rhizon.core.archives.entries import Archive
from rhizon.core.errors import InputError, RhizonError, StateError
from rhizon.core.folder_files import FolderFile, outcome
from rhizon.core.model.base import SettingValue
from rhizon.core.model.contentlist import ContentList, SecretSource
from rhizon.core.model.documents import decode
from rhizon.core.model.lock import Lock
from rhizon.core.model.pack import PACK_ARCHIVES, PACK_FILE, PACK_TREES, Pack, PackMemory
from rhizon.core.names import RelPath, UnsafeNameError, printable, safe_path

if TYPE_CHECKING:
    from rhizon.core.solve import Request

__all__ = ["PACK_ENDING", "Source", "is_pack", "pack_root", "read_any", "read_lock", "read_pack", "read_source"]

PACK_ENDING = ".rhz"
LARGEST_PACK = 4 << 30


class Source(msgspec.Struct, frozen=True, kw_only=True):
    """A source as provisioning needs it. ``overlay`` maps paths in the instance to bytes of the pack (of a lock, the
    store has them), ``player_overlay`` those in a player's folder, ``carried`` are the archives in it; ``files`` those
    of a plain folder of archives."""

    kind: Literal["list", "pack", "lock"]
    label: str
    path: Path
    name: str
    title: str
    game: str
    catalogs: tuple[str, ...] = ()
    archives: tuple[str, ...] = ()
    settings: Mapping[str, str | int | bool] = {}
    secrets: Mapping[str, SecretSource] = {}
    ports: Mapping[str, int] = {}
    memory_mib: int | None = None
    pack_memory: PackMemory | None = None
    overlay: Mapping[RelPath, bytes] = {}
    player_overlay: Mapping[RelPath, bytes] = {}
    carried: Mapping[RelPath, bytes] = {}
    files: tuple[FolderFile, ...] = ()
    document: ContentList | Pack | Lock

    @property
    def beside(self) -> Path:
        """The folder that relative addresses count from."""
        return self.path.parent

    def outcome(self, lock: Lock) -> tuple[FolderFile, ...]:
        """What became of each file of a folder of archives, now that its lock is known; nothing for another source."""
        return outcome(self.files, lock) if self.files else ()

    def request(self, majors: tuple[int, ...]) -> "Request":
        """The question for the solver; a lock has none. Raises StateError for a lock."""
        from rhizon.core.solve import from_list, from_pack  # slow to import, and few commands solve

        match self.document:
            case ContentList():
                return from_list(self.document, majors, self.label)
            case Pack():
                return from_pack(self.document, majors, self.label)
            case _:
                raise StateError("already-solved", f"{self.label} is a lock", hint="Provision from it directly.")


def read_any(host: Host, path: Path, game: str | None, reporter: Reporter) -> Source:
    """Whatever the path is, a plain folder of archives too; ``game`` is of such a folder. Raises InputError,
    DocumentError."""
    if path.is_dir() and pack_root(path) is None:
        from rhizon.app.choose.folder_source import list_of_folder  # reads archives: slow to import, and seldom needed

        wanted, files = list_of_folder(host, path, game, reporter)
        return msgspec.structs.replace(_from_list(path, wanted), files=files)
    source = read_source(path)
    if source.kind == "pack" and source.carried:
        return msgspec.structs.replace(source, archives=(str(_laid_out(host, source.carried)),))
    return source


def _laid_out(host: Host, carried: Mapping[RelPath, bytes]) -> Path:
    """The archives that a pack carries, as files: a folder of their own by what they are."""
    names = sorted(carried)
    key = hashlib.sha256("".join(f"{name}{hashlib.sha256(carried[name]).hexdigest()}" for name in names).encode())
    folder = host.places.carried / key.hexdigest()[:32]
    with translated("store the archives of a pack", folder):
        for name in names:
            file = folder / name.replace("/", "-")
            if not file.is_file() or file.stat().st_size != len(carried[name]):
                write_atomic(file, carried[name])
    return folder


def read_source(path: Path) -> Source:
    """A document, whatever kind it is. Raises InputError or DocumentError."""
    if path.is_dir() or path.suffix == PACK_ENDING or is_pack(path):
        return _from_pack(path)
    if is_kit(path):
        return _from_list(path, kit_content_list(path))
    _require_no_archive(path)
    data = read_bytes(path, "content list, pack or lock", 64 << 20)
    if data.lstrip()[:1] == b"{":
        return _from_lock(path, decode(Lock, data, str(path)))
    return _from_list(path, decode(ContentList, data, str(path)))


def read_lock(path: Path) -> Lock:
    """A lock from its file."""
    return decode(Lock, read_bytes(path, "lock", 64 << 20), str(path))


def _from_list(path: Path, wanted: ContentList) -> Source:
    """A content list as a source."""
    return Source(
        kind="list",
        label=path.name,
        path=path,
        name=wanted.name,
        title=wanted.title or wanted.name,
        game=wanted.game,
        catalogs=wanted.catalogs,
        archives=wanted.archives,
        settings=_plain(wanted.plain_settings()),
        secrets=wanted.secrets(),
        ports=wanted.ports,
        memory_mib=wanted.memory_mib,
        document=wanted,
    )


def _plain(settings: Mapping[str, SettingValue]) -> dict[str, str | int | bool]:
    """Lists of names as a lock and an instance hold them."""
    return {name: ", ".join(value) if isinstance(value, tuple) else value for name, value in settings.items()}


def _from_lock(path: Path, lock: Lock) -> Source:
    """A lock as a source: it has been solved."""
    return Source(
        kind="lock",
        label=path.name,
        path=path,
        name=lock.name,
        title=lock.title or lock.name,
        game=lock.target.game,
        settings=lock.settings,
        memory_mib=lock.memory_mib,
        pack_memory=lock.pack_memory,
        document=lock,
    )


def _from_pack(path: Path) -> Source:
    """A pack as a source: its releases are exact wishes, its trees an overlay."""
    pack, files = read_pack(path)
    head = f"{PACK_ARCHIVES}/"
    return Source(
        kind="pack",
        label=path.name,
        path=path,
        name=pack.name,
        title=pack.title or pack.name,
        game=pack.game,
        catalogs=pack.catalogs,
        settings=_plain(pack.settings),
        pack_memory=pack.memory,
        overlay=_trees(files, "shared", "server"),
        player_overlay=_trees(files, "shared", "player"),
        carried={RelPath(name.removeprefix(head)): data for name, data in files.items() if name.startswith(head)},
        document=pack,
    )


def _trees(files: Mapping[RelPath, bytes], *names: str) -> dict[RelPath, bytes]:
    """The files of these trees, by their paths in a folder; those of the last one replace others."""
    overlay: dict[RelPath, bytes] = {}
    for tree in names:
        head = f"files/{tree}/"
        overlay |= {safe_path(name.removeprefix(head)): data for name, data in files.items() if name.startswith(head)}
    return overlay


def read_pack(path: Path) -> tuple[Pack, dict[RelPath, bytes]]:
    """A pack and the files of its trees, from a folder or a ``.rhz``. Raises InputError for what is not a pack,
    DocumentError for its description."""
    if path.is_dir():
        files = _folder_files(pack_root(path) or path)
    else:
        archive = Archive(read_bytes(path, "pack", LARGEST_PACK), path.name)
        files = _without_top({name: data for name, data in archive.files() if not _is_clutter(name)})
    description = files.pop(RelPath(PACK_FILE), None)
    if description is None:
        raise InputError(
            "not-a-pack",
            f"{path} is not a pack: it has no {PACK_FILE} at its root",
            hint="See what a pack looks like: rhizon help formats",
        )
    pack = decode(Pack, description, f"{path}/{PACK_FILE}")
    trees = (*(f"files/{tree}/" for tree in PACK_TREES), f"{PACK_ARCHIVES}/")
    wrong = sorted(name for name in files if not name.startswith(trees))
    if wrong:
        raise InputError(
            "pack-stray-files",
            f"{path} has files that belong to no tree: {', '.join(printable(name, 80) for name in wrong[:5])}",
            hint="A pack contains rhizon-pack.toml, archives and the trees files/shared, files/server, files/player.",
        )
    return pack, files


def pack_root(folder: Path) -> Path | None:
    """The folder of a pack: this one, or the only one in it; None for none."""
    if (folder / PACK_FILE).is_file():
        return folder
    with translated("read the folder", folder):
        inside = [one for one in folder.iterdir() if not _is_clutter(one.name)] if folder.is_dir() else []
    return inside[0] if len(inside) == 1 and (inside[0] / PACK_FILE).is_file() else None


def is_pack(file: Path) -> bool:
    """Whether a file is a zipped pack, whatever its ending: its description is at the root or in the only folder."""
    try:
        with FileBytes(file) as data:
            if data.read_at(0, 4) != b"PK\x03\x04":
                return False
            names = Archive(data, file.name).names()
    except (RhizonError, OSError):
        return False
    return PACK_FILE in _without_top({RelPath(name): b"" for name in names if not _is_clutter(name)})


def _is_clutter(name: str) -> bool:
    """What file managers add to folders and zips by themselves."""
    first, last = name.partition("/")[0], name.rpartition("/")[2]
    return first == "__MACOSX" or last in (".DS_Store", "Thumbs.db", "desktop.ini")


def _without_top(files: dict[RelPath, bytes]) -> dict[RelPath, bytes]:
    """The files of a zipped pack, without a folder that all of them are in."""
    tops = {name.partition("/")[0] for name in files}
    if PACK_FILE in files or len(tops) != 1:
        return files
    head = f"{tops.pop()}/"
    return {RelPath(name.removeprefix(head)): data for name, data in files.items()}


def _require_no_archive(file: Path) -> None:
    """An archive is content, not a source: what a person who names one wants is told. Raises InputError."""
    if not file.is_file():
        return
    with translated("read", file), file.open("rb") as opened:
        head = opened.read(4)
    if head == b"PK\x03\x04":
        raise InputError(
            "archive-as-source",
            f"{file} is an archive, not a content list, a pack or a lock",
            hint="Put it in a folder of its own with the archives it goes with, and name the folder.",
        )


def _folder_files(folder: Path) -> dict[RelPath, bytes]:
    """Every file of a pack in a folder, by its path there. Raises InputError for a link or a bad name."""
    if not (folder / PACK_FILE).is_file():
        return {}
    files: dict[RelPath, bytes] = {}
    for file in sorted(folder.rglob("*")):
        name = file.relative_to(folder).as_posix()
        if file.is_symlink():
            raise InputError(
                "pack-link",
                f"{name} in the pack is a link",
                hint="Replace it by the file; a pack contains ordinary files only.",
            )
        if not file.is_file():
            continue
        try:
            files[safe_path(name)] = read_bytes(file, "file of the pack")
        except UnsafeNameError as why:
            raise InputError(
                "pack-name", f"{printable(name, 120)!r} in the pack has a bad name: {why}", hint="Rename it."
            ) from None
    return files

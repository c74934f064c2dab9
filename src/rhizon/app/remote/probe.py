"""Whether a rented server can be used, and what it can: tried by small files in a folder of Rhizon's own there."""

import asyncio
import hashlib
import time
import uuid

import msgspec

from rhizon.adapters.files import make_folders, translated, write_atomic
from rhizon.adapters.host import now
from rhizon.adapters.remotes.files import RemoteFiles, Upload
from rhizon.app.host import Host
from rhizon.app.remote.records import OWN_FOLDER
from rhizon.app.remote.remotes import RemoteResult, connected, find_remote, remote_result
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError, RemoteError
from rhizon.core.model.encode import with_probed
from rhizon.core.model.remote import Probed, RemoteDefinition

__all__ = ["accept_key", "check_remote", "probe"]

DATA = bytes(range(256)) * 6000  # 1.5 MB: less is sent anew over SFTP
OVER_SSH = ("sftp", "rhizon")


def accept_key(host: Host, remote: RemoteDefinition) -> str:
    """Takes the key that the other side shows now as its own, from now on; answers its fingerprint. Raises RemoteError,
    InputError where it is not reached over SSH."""
    from rhizon.adapters.remotes.host_keys import server_key

    reach = remote.reach
    if reach.by not in OVER_SSH:
        raise InputError("no-key", f"{remote.name} is not reached over SSH", hint="Leave --accept-key out.")
    line, fingerprint = asyncio.run(server_key(reach.host, reach.port or 22))
    path = host.places.known_hosts
    make_folders(path.parent, 0o700)
    marker = line.split(" ", 1)[0] + " "
    before = path.read_text("utf-8").splitlines() if path.is_file() else []
    with translated("write the known keys", path):
        kept = [one for one in before if not one.startswith(marker)]
        write_atomic(path, "".join(f"{one}\n" for one in (*kept, line)).encode(), 0o600)
    return fingerprint


def check_remote(host: Host, word: str, reporter: Reporter) -> RemoteResult:
    """Connects and looks at the folder; nothing is written. Raises RemoteError, TrustError, DocumentError."""
    path, remote = find_remote(host, word)
    reporter.step(f"connecting to {remote.name}")
    files = connected(host, remote)
    try:
        files.listing(below=OWN_FOLDER)
        return remote_result(path, remote, free=files.free_mib())
    finally:
        files.close()


def probe(host: Host, word: str, reporter: Reporter, *, dry_run: bool = False) -> RemoteResult:
    """Finds out what the other side can, and writes it into the remote's file. Raises RemoteError, TrustError."""
    if dry_run:
        return msgspec.structs.replace(check_remote(host, word, reporter), planned=True)
    path, remote = find_remote(host, word)
    reporter.step(f"connecting to {remote.name}")
    files = connected(host, remote)
    try:
        free = files.free_mib()
        reporter.step("trying what it can")
        found = _tried(files, free)
    finally:
        files.close()
    made = msgspec.structs.replace(remote, probed=found)
    with translated("write the remote file", path):
        write_atomic(path, with_probed(path.read_text("utf-8"), found).encode(), path.stat().st_mode & 0o777)
    reporter.done(f"{remote.name} can be written to")
    return remote_result(path, made, free=free)


def _tried(files: RemoteFiles, free: int | None) -> Probed:
    stem = f"{OWN_FOLDER}/probe-{uuid.uuid4().hex[:8]}"
    one, other, half = f"{stem}-a", f"{stem}-b", f"{stem}-half"
    try:
        files.write(one, b"one")
        files.write(other, b"other")
        began = int(time.time())
        seen = files.listing(exact=[one], below=OWN_FOLDER)
        ahead = seen[one].mtime - began if one in seen and seen[one].mtime else 0
        capitals = files.read(f"{stem}-A", 10) is None
        hashes_by = files.hashes_there if _hashes_are_right(files, other, b"other") else ""
        resumes = _resumes(files, half)
        replaced = _replaces(files, one, other)
    finally:
        files.remove_all([one, other, half])
    return Probed(
        when=now(),
        rename_over=replaced,
        capitals=capitals,
        resumes=resumes,
        lists_by=files.lists_by,
        hashes_by=hashes_by,
        free_mib=free,
        ahead_seconds=ahead if abs(ahead) > 2 else 0,
    )


def _hashes_are_right(files: RemoteFiles, path: str, data: bytes) -> bool:
    return files.hashes([path], lambda _count: None).get(path) == hashlib.sha256(data).hexdigest()


def _resumes(files: RemoteFiles, path: str) -> bool:
    """Whether only the rest of a file is sent of which some is there."""
    files.write(path, DATA[: len(DATA) - 10_000])
    told: list[int] = []
    files.upload([Upload(path, DATA, len(DATA))], told.append)
    return sum(told) < len(DATA) and files.read(path, 2 * len(DATA)) == DATA


def _replaces(files: RemoteFiles, before: str, after: str) -> bool:
    """Whether a rename puts a file in another one's place by itself."""
    replaces = files.replaces
    try:
        files.rename(before, after)
        return replaces and files.replaces and files.read(after, 10) == b"one"
    except RemoteError:  # whatever it says, it does not do that
        return False

"""A rented server over FTP (RFC 959, 2428, 3659) or FTPS (RFC 4217).

Hosts differ: without MLSD there is LIST, whose sizes are used and whose times are not; where a rename does not replace,
the file there is removed first. Several connections work at once, as many as the host allows.
"""

import contextlib
import ftplib
import hashlib
import io
import posixpath
import re
import threading
from collections import deque
from collections.abc import Callable, Collection, Sequence
from functools import partial
from pathlib import Path
from typing import BinaryIO

from rhizon.adapters.files import translated
from rhizon.adapters.remotes.files import Download, Upload, protected
from rhizon.adapters.remotes.ftp_line import BLOCK, CANNOT_RESUME, FtpLine, from_wire, ftp_errors, to_wire
from rhizon.core.model.remote import Reach
from rhizon.core.remote.ftp_listing import ListedEntry, parse_list_line, parse_time
from rhizon.core.remote.push_plan import ThereFile

__all__ = ["FtpFiles"]

AT_ONCE = 4
JOBS_A_LINE = 6  # another connection costs about as much as so many questions
DEEPEST = 30
NOT_THERE = ("450", "501", "550")  # hosts differ in what they answer for a folder that is not there

Job = Callable[[FtpLine], None]


class FtpFiles:
    """Files over one connection, and up to three more where there is much to do."""

    def __init__(self, reach: Reach) -> None:
        self._reach = reach
        self._made: set[str] = set()
        self.replaces = True
        with self._translated():
            self._lines = [FtpLine(reach)]
            self._features = self._asked_features()
        self._hash_chosen: list[FtpLine] = []

    def _asked_features(self) -> dict[str, str]:
        """What FEAT says, by its first word."""
        with contextlib.suppress(ftplib.error_perm):
            lines = self._ftp.sendcmd("FEAT").splitlines()[1:-1]
            return {word.upper(): rest for word, _, rest in (line.strip().partition(" ") for line in lines)}
        return {}

    @property
    def _ftp(self) -> ftplib.FTP:
        return self._lines[0].ftp

    def _translated(self) -> contextlib.AbstractContextManager[None]:
        return ftp_errors(self._reach.host)

    def _at(self, path: str) -> str:
        """A path as it is sent."""
        return to_wire(posixpath.join(self._reach.folder, path) if path else self._reach.folder)

    def _share(self, jobs: Sequence[Job], most: int | None = None) -> None:
        """Does several things over several connections; the first error ends it, and is raised."""
        waiting = deque(jobs)
        wrong: list[BaseException] = []
        count = min(AT_ONCE, most if most is not None else 1 + len(jobs) // JOBS_A_LINE)

        def work(number: int) -> None:
            try:
                line = self._line(number)
            except (OSError, EOFError, ftplib.Error):  # the host allows no more connections
                return
            try:
                while not wrong:
                    try:
                        job = waiting.popleft()
                    except IndexError:
                        return
                    job(line)
            except BaseException as why:  # it is raised by the caller
                wrong.append(why)

        more = [threading.Thread(target=work, args=(number,), daemon=True) for number in range(1, count)]
        for thread in more:
            thread.start()
        work(0)
        for thread in more:
            thread.join()
        if wrong:
            raise wrong[0]

    def _line(self, number: int) -> FtpLine:
        """The first one, or one more."""
        if number < len(self._lines):
            return self._lines[number]
        made = FtpLine(self._reach)
        self._lines.append(made)
        return made

    # ---- reading

    def listing(self, leave: Sequence[str] = (), exact: Collection[str] = (), below: str = "") -> dict[str, ThereFile]:
        with self._translated():
            found, _ = self._walk(below, leave)
            if "MLST" not in self._features:
                self._share([partial(self._ask_time, path, found) for path in sorted(set(exact) & found.keys())])
            return found

    def _walk(self, top: str, leave: Sequence[str]) -> tuple[dict[str, ThereFile], list[str]]:
        """Files below a folder, and the folders there, outer ones first."""
        found: dict[str, ThereFile] = {}
        folders, now = [], [top]
        for _ in range(DEEPEST):
            below: list[str] = []
            self._share([partial(self._list_folder, one, leave, found, below, one == top) for one in now])
            now = below
            folders += below
            if not now:
                break
        return found, folders

    def _list_folder(
        self,
        folder: str,
        leave: Sequence[str],
        found: dict[str, ThereFile],
        below: list[str],
        top: bool,
        line: FtpLine,
    ) -> None:
        for one in self._entries(line.ftp, folder, top=top):
            path = f"{folder}/{one.name}" if folder else one.name
            if one.kind == "file":
                found[path] = ThereFile(size=one.size, mtime=one.mtime)
            elif one.kind == "folder" and path not in leave:
                below.append(path)

    def _ask_time(self, path: str, found: dict[str, ThereFile], line: FtpLine) -> None:
        with contextlib.suppress(ftplib.error_perm):
            said = line.ftp.sendcmd(f"MDTM {self._at(path)}").split()[-1]
            found[path] = ThereFile(size=found[path].size, mtime=parse_time(said))

    def _entries(self, ftp: ftplib.FTP, folder: str, *, top: bool) -> list[ListedEntry]:
        """What is in a folder. The ``top`` need not be there."""
        try:
            if "MLST" in self._features:
                return [
                    ListedEntry(
                        from_wire(name),
                        {"dir": "folder", "file": "file"}.get(said.get("type", "").lower(), "other"),  # type: ignore[arg-type]
                        int(said.get("size", 0)),
                        parse_time(said.get("modify", "")),
                    )
                    for name, said in ftp.mlsd(self._at(folder))
                    if name not in (".", "..")
                ]
            lines: list[str] = []
            ftp.cwd(self._at(folder))
            ftp.retrlines("LIST -a", lines.append)  # without a path: some take the two for one name
            ftp.voidcmd("TYPE I")  # lines came in the other type
        except ftplib.error_perm as refused:
            if top and str(refused).startswith(NOT_THERE):
                return []
            raise  # its parent lists it: what is in it must not be taken for missing
        entries = [one for one in map(parse_list_line, map(from_wire, lines)) if one is not None]
        return [one for one in entries if one.name not in (".", "..")]

    def list_and_read(
        self, leave: Sequence[str], exact: Collection[str], path: str, most: int
    ) -> tuple[dict[str, ThereFile], bytes | None]:
        return self.listing(leave, exact), self.read(path, most)

    def read(self, path: str, most: int, begin: int = 0) -> bytes | None:
        data = io.BytesIO()

        def take(chunk: bytes) -> None:
            data.write(chunk[: max(0, most - data.tell())])

        with self._translated():
            try:
                return data.getvalue() if _retrieved(self._ftp, self._at(path), take, begin) else None
            except ftplib.error_perm as refused:
                if not begin or not str(refused).startswith(CANNOT_RESUME):
                    raise
            whole = self.read(path, begin + most)
            return whole[begin:] if whole is not None else None

    def download(self, files: Sequence[Download], told: Callable[[int], None]) -> None:
        with self._translated():
            self._share([partial(self._fetch, one, told) for one in files], len(files))

    def _fetch(self, one: Download, told: Callable[[int], None], line: FtpLine) -> None:
        with translated("keep what is fetched", one.to):
            file = one.to.open("wb")
        with file:
            there = _retrieved(line.ftp, self._at(one.path), partial(_keep, file, one.to, told))
        if not there:
            one.to.unlink()

    def hashes(self, paths: Sequence[str], told: Callable[[int], None]) -> dict[str, str]:
        found: dict[str, str] = {}
        with self._translated():
            self._share([partial(self._hash, one, found, told) for one in paths], len(paths))
        return found

    def _hash_command(self) -> str:
        """The command that gives a file's SHA-256, where there is one: HASH as drafted for the IETF, or XSHA256."""
        if "SHA-256" in self._features.get("HASH", "").upper():
            return "HASH"
        return "XSHA256" if "XSHA256" in self._features else ""

    def _asked_hash(self, path: str, line: FtpLine) -> str:
        """What the other side says; "" where it says nothing of use."""
        command = self._hash_command()
        with contextlib.suppress(ftplib.error_perm):
            if command == "HASH" and line not in self._hash_chosen:
                line.ftp.sendcmd("OPTS HASH SHA-256")
                self._hash_chosen.append(line)
            said = line.ftp.sendcmd(f"{command} {self._at(path)}") if command else ""
            match = re.search(r"\b[0-9A-Fa-f]{64}\b", said)
            return match[0].lower() if match is not None else ""
        return ""

    def _hash(self, path: str, found: dict[str, str], told: Callable[[int], None], line: FtpLine) -> None:
        if sha256 := self._asked_hash(path, line):
            found[path] = sha256
            return
        digest = hashlib.sha256()

        def take(chunk: bytes) -> None:
            digest.update(chunk)
            told(len(chunk))

        if _retrieved(line.ftp, self._at(path), take):
            found[path] = digest.hexdigest()

    @property
    def hashes_there(self) -> str:
        return self._hash_command()

    @property
    def lists_by(self) -> str:
        return "MLSD" if "MLST" in self._features else "LIST"

    def free_mib(self) -> int | None:
        return None

    # ---- writing

    def write(self, path: str, data: bytes) -> None:
        with self._translated():
            self._folder_for(self._ftp, path)
            self._lines[0].store(self._at(path), io.BytesIO(data), 0, lambda _count: None)

    def _folder_for(self, ftp: ftplib.FTP, path: str) -> None:
        """Makes the folders of a path, each but once: hosts answer 550 for one that is there."""
        parts = posixpath.dirname(path).split("/")
        for count in range(1, len(parts) + 1):
            folder = "/".join(parts[:count])
            if folder and folder not in self._made:
                with contextlib.suppress(ftplib.error_perm):
                    ftp.mkd(self._at(folder))
                self._made.add(folder)

    def create(self, path: str, data: bytes) -> bool:
        if self.read(path, 1) is not None:  # FTP has no way to ask for both at once
            return False
        self.write(path, data)
        return True

    def upload(self, files: Sequence[Upload], told: Callable[[int], None]) -> dict[str, str]:
        found: dict[str, str] = {}
        with self._translated():
            begun: dict[str, ThereFile] = {}
            for folder in {posixpath.dirname(one.path) for one in files}:
                self._list_folder(folder, (), begun, [], True, self._lines[0])
            for one in files:
                self._folder_for(self._ftp, one.path)
            jobs = [
                partial(self._send, one, begun[one.path].size if one.path in begun else 0, told, found) for one in files
            ]
            self._share(jobs, len(files))
        return found

    def _send(self, one: Upload, begun: int, told: Callable[[int], None], found: dict[str, str], line: FtpLine) -> None:
        """Sends a file; what is there of it is continued where the host can."""
        place = self._at(one.path)
        with one.open() as source:
            line.store(place, source, begun if begun <= one.size else 0, told)
        if one.executable:
            with contextlib.suppress(ftplib.error_perm):
                line.ftp.sendcmd(f"SITE CHMOD 755 {place}")
        if self._hash_command() and (sha256 := self._asked_hash(one.path, line)):
            found[one.path] = sha256

    def rename(self, before: str, after: str) -> None:
        with self._translated():
            self._folder_for(self._ftp, after)
            self._rename(before, after, self._lines[0])

    def _rename(self, before: str, after: str, line: FtpLine) -> None:
        ftp = line.ftp
        try:
            ftp.rename(self._at(before), self._at(after))
        except ftplib.error_perm:
            ftp.size(self._at(before))  # raises where that is what is missing: then nothing is removed
            with contextlib.suppress(ftplib.error_perm):
                ftp.delete(self._at(after))
            try:
                ftp.rename(self._at(before), self._at(after))
            except ftplib.error_perm as refused:
                raise protected(self._reach.host, before, after, from_wire(str(refused))[:200]) from None
            self.replaces = False

    def rename_all(self, pairs: Sequence[tuple[str, str]]) -> None:
        with self._translated():
            for _, after in pairs:
                self._folder_for(self._ftp, after)
            self._share([partial(self._rename, *one) for one in pairs])

    def remove(self, path: str) -> None:
        self.remove_all([path])

    def make_folder(self, path: str) -> None:
        with self._translated():
            self._folder_for(self._ftp, f"{path}/x")

    def remove_all(self, paths: Sequence[str]) -> None:
        with self._translated():
            self._share([partial(self._remove, one) for one in paths])

    def _remove(self, path: str, line: FtpLine) -> None:
        with contextlib.suppress(ftplib.error_perm):
            line.ftp.delete(self._at(path))

    def remove_folder(self, path: str) -> None:
        with self._translated():
            files, folders = self._walk(path, ())
            self._share([partial(self._remove, one) for one in files])
            for folder in (*reversed(folders), path):
                with contextlib.suppress(ftplib.error_perm):
                    self._ftp.rmd(self._at(folder))
            self._made = {one for one in self._made if one != path and not one.startswith(f"{path}/")}

    def close(self) -> None:
        for line in self._lines:
            line.close()


def _retrieved(ftp: ftplib.FTP, place: str, take: Callable[[bytes], None], begin: int = 0) -> bool:
    """Hands a file's bytes on; False where there is none."""
    try:
        ftp.retrbinary(f"RETR {place}", take, BLOCK, begin or None)
    except ftplib.error_perm as refused:
        if str(refused).startswith("550"):
            return False
        raise
    return True


def _keep(file: BinaryIO, to: Path, told: Callable[[int], None], chunk: bytes) -> None:
    with translated("keep what is fetched", to):
        file.write(chunk)
    told(len(chunk))

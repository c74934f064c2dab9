"""The ways to a rented server, by one contract: a folder, and a real OpenSSH server over SFTP."""

import asyncio
import getpass
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Callable, Iterator
from importlib.util import find_spec
from pathlib import Path

from rhizon.adapters.remotes import open_remote
from rhizon.adapters.remotes.files import Download, RemoteFiles, Upload
from rhizon.adapters.remotes.sftp import server_key
from rhizon.core.errors import RemoteError, RhizonError, TrustError
from rhizon.core.model.remote import Reach
from tests.support import not_fast

HAS_FTPD = find_spec("pyftpdlib") is not None and find_spec("OpenSSL") is not None
SSHD = Path("/usr/sbin/sshd")


class Sshd:
    """An OpenSSH server on a port of loopback, for the user who runs the tests, with a key."""

    def __init__(self, room: Path) -> None:
        self.room = room
        for name in ("host", "user", "other"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", room / name], check=True)
        (room / "authorized").write_bytes((room / "user.pub").read_bytes())
        with socket.create_server(("127.0.0.1", 0)) as free:
            self.port: int = free.getsockname()[1]
        config = (
            f"Port {self.port}\nListenAddress 127.0.0.1\nHostKey {room}/host\nPidFile {room}/pid\n"
            f"AuthorizedKeysFile {room}/authorized\nPasswordAuthentication no\nUsePAM no\nStrictModes no\n"
            "PermitRootLogin yes\nSubsystem sftp internal-sftp\nMaxStartups 100\n"
        )
        (room / "config").write_text(config)
        if os.geteuid() == 0:
            Path("/run/sshd").mkdir(exist_ok=True)
        self.process = subprocess.Popen(
            [SSHD, "-D", "-e", "-f", room / "config"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        end = time.monotonic() + 30
        while time.monotonic() < end:
            with socket.socket() as peer:
                if peer.connect_ex(("127.0.0.1", self.port)) == 0:
                    return
            time.sleep(0.05)

    def reach(self, folder: Path, key: str = "user") -> Reach:
        return Reach(by="sftp", host="127.0.0.1", port=self.port, user=getpass.getuser(), folder=str(folder),
                     key=str(self.room / key))  # fmt: skip

    def known(self) -> Path:
        """A file of known hosts, as it is after its key was accepted."""
        path = self.room / "known"
        line, _ = asyncio.run(server_key("127.0.0.1", self.port))
        path.write_text(line + "\n")
        return path

    def close(self) -> None:
        self.process.terminate()
        self.process.wait(20)


class Ftpd:
    """An FTP server in a process of its own: with TLS or without, with MLSD or without, that renames over files or
    not."""

    def __init__(self, room: Path, root: Path, *, tls: bool, awkward: bool) -> None:
        (room / "password").write_text("moonlit-fen\n")
        pem = room / "pem"
        if tls:
            subprocess.run(
                ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-keyout", room / "k",
                 "-out", room / "crt", "-subj", "/CN=localhost",
                 "-addext", "subjectAltName=DNS:localhost,IP:127.0.0.1"],
                check=True, capture_output=True,
            )  # fmt: skip
            pem.write_bytes((room / "k").read_bytes() + (room / "crt").read_bytes())
        command = [sys.executable, "-W", "ignore", "-m", "tests.adapters.ftpd", str(root), str(pem) if tls else "-",
                   "awkward" if awkward else "plain"]  # fmt: skip
        self._process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        assert self._process.stdout is not None
        port = int(self._process.stdout.readline())
        self.reach = Reach(
            by="ftps" if tls else "ftp", host="127.0.0.1", port=port, user="tove", folder="/",
            password_file=str(room / "password"), insecure=not tls, certificate=str(room / "crt") if tls else "",
        )  # fmt: skip

    def close(self) -> None:
        self._process.terminate()
        self._process.wait(20)
        assert self._process.stdout is not None
        self._process.stdout.close()


@not_fast
class Contract(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.room = Path(folder.name)

    def ftp(self, there: Path, *, tls: bool, awkward: bool) -> RemoteFiles:
        room = self.room / f"ftp-{tls}-{awkward}"
        room.mkdir()
        server = Ftpd(room, there, tls=tls, awkward=awkward)
        self.addCleanup(server.close)
        return open_remote(server.reach, self.room / "none")

    def ways(self) -> Iterator[tuple[str, Callable[[Path], RemoteFiles]]]:
        if HAS_FTPD:
            yield "ftp", lambda there: self.ftp(there, tls=False, awkward=False)
            yield "ftp, awkward", lambda there: self.ftp(there, tls=False, awkward=True)
            yield "ftps", lambda there: self.ftp(there, tls=True, awkward=False)
        yield "folder", lambda there: open_remote(Reach(by="folder", folder=str(there)), self.room / "none")
        if SSHD.exists():
            server = Sshd(self.room)
            self.addCleanup(server.close)
            known = server.known()
            yield "sftp", lambda there: open_remote(server.reach(there), known)

    def test_what_each_can(self) -> None:
        for name, way in self.ways():
            with self.subTest(name):
                there = self.room / f"there-{name}"
                there.mkdir()
                files = way(there)
                self.addCleanup(files.close)
                self.assertEqual(files.listing(), {})
                files.write("a/b c/Åse.txt", b"one")
                files.write("a/b c/Åse.txt", b"two")
                self.assertEqual(files.read("a/b c/Åse.txt", 100), b"two")
                self.assertIsNone(files.read("a/none", 100))
                self.assertTrue(files.create("mark", b"x"))
                self.assertFalse(files.create("mark", b"y"))
                (there / "link").symlink_to("/etc/passwd")
                (there / "world").mkdir()
                (there / "world/w").write_text("w")
                found = files.listing(["world"])
                if not name.startswith("ftp"):  # there a host says of a link what it leads to
                    self.assertNotIn("link", found)
                self.assertEqual(set(found) - {"link"}, {"a/b c/Åse.txt", "mark"})
                self.assertEqual(files.listing()["mark"].size, 1)
                files.rename("mark", "a/b c/Åse.txt")
                self.assertEqual(files.read("a/b c/Åse.txt", 100), b"x")
                files.remove("a/b c/Åse.txt")
                files.remove("a/b c/Åse.txt")
                self.assertGreater(files.free_mib() or 1, 0)
                # several at once; one that lies there by half is continued, one that is too long is sent anew
                data = os.urandom(3 << 20)
                source = self.room / f"source-{name}"
                source.write_bytes(data)
                (there / "half").write_bytes(data[:1_000_000])
                (there / "long").write_bytes(data + b"more")
                told: list[int] = []
                uploads = [Upload(path, source, len(data)) for path in ("half", "long", "deep/er/new")]
                files.upload([*uploads, Upload("run.sh", b"#!/bin/sh\n", 10, executable=True)], told.append)
                for path in ("half", "long", "deep/er/new"):
                    self.assertEqual((there / path).read_bytes(), data, path)
                self.assertTrue(os.access(there / "run.sh", os.X_OK))
                self.assertTrue(told)
                told.clear()
                room = Path(tempfile.mkdtemp(dir=self.room))
                names = ("half", "none", "deep/er/new", "run.sh")
                files.download([Download(one, room / one.replace("/", "-")) for one in names], told.append)
                self.assertEqual(sorted(one.name for one in room.iterdir()), ["deep-er-new", "half", "run.sh"])
                self.assertEqual((room / "deep-er-new").read_bytes(), data)
                self.assertEqual(sum(told), 2 * len(data) + 10)
                with self.assertRaises(RemoteError):
                    files.rename("none", "x")
                if name.startswith("ftp"):  # what cannot be listed is not taken for empty
                    (there / "locked").mkdir()
                    with self.assertRaises(RemoteError) as caught:
                        files.listing()
                    self.assertEqual(caught.exception.code, "remote-refused")
                with self.assertRaises(RhizonError) as full:
                    files.download([Download("half", Path("/dev/full"))], told.append)
                self.assertIn("no space left", full.exception.message.lower())

    @unittest.skipUnless(SSHD.exists(), "there is no sshd on this machine")
    def test_who_is_trusted(self) -> None:
        server = Sshd(self.room)
        self.addCleanup(server.close)

        def code(reach: Reach, known: Path) -> str:
            with self.assertRaises(RhizonError) as caught:
                open_remote(reach, known)
            return caught.exception.code

        reach = server.reach(self.room)
        self.assertEqual(code(reach, self.room / "no file"), "host-not-known")
        known = server.known()
        open_remote(reach, known).close()
        self.assertEqual(code(server.reach(self.room, "other"), known), "remote-login")
        wrong = self.room / "wrong"
        name, kind, _ = known.read_text().split(" ", 2)
        wrong.write_text(f"{name} {(self.room / 'other.pub').read_text()}")
        self.assertTrue(kind)
        with self.assertRaises(TrustError) as caught:
            open_remote(reach, wrong)
        self.assertEqual(caught.exception.code, "host-key-changed")
        server.close()
        self.assertEqual(code(reach, known), "remote-unreachable")

    @unittest.skipUnless(SSHD.exists(), "there is no sshd on this machine")
    def test_a_line_that_breaks(self) -> None:
        server = Sshd(self.room)
        self.addCleanup(server.close)
        there = self.room / "there"
        there.mkdir()
        files = open_remote(server.reach(there), server.known())
        shutil.rmtree(there)
        self.assertEqual(files.listing(), {})
        sessions = subprocess.run(["pgrep", "-P", str(server.process.pid)], capture_output=True, text=True, check=True)
        for pid in sessions.stdout.split():
            os.kill(int(pid), 9)
        with self.assertRaises(RemoteError) as caught:
            for _ in range(3):
                files.listing()
        self.assertEqual(caught.exception.code, "remote-unreachable")  # which is tried again
        files.close()

"""The ways to a rented server, by one contract: a folder, and a real OpenSSH server over SFTP."""

import asyncio
import getpass
import hashlib
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
from unittest import mock

from rhizon.adapters.remotes import open_remote
from rhizon.adapters.remotes.files import Download, RemoteFiles, Upload
from rhizon.adapters.remotes.host_keys import server_key
from rhizon.core.errors import RemoteError, RhizonError, TrustError
from rhizon.core.model.remote import Reach
from tests.support import not_fast

HAS_FTPD = find_spec("pyftpdlib") is not None and find_spec("OpenSSL") is not None
SSHD = Path("/usr/sbin/sshd")
VSFTPD = Path("/usr/sbin/vsftpd")
HASHES = ("ftp, another system", "ftps", "folder", "sftp")
HAS_VSFTPD = VSFTPD.exists() and os.name == "posix" and os.geteuid() == 0


class Sshd:
    """An OpenSSH server on a port of loopback, for the user who runs the tests, with a key."""

    def __init__(self, room: Path, more: str = "") -> None:
        self.room = room
        for name in ("host", "user", "other"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", room / name], check=True)
        (room / "authorized").write_bytes((room / "user.pub").read_bytes())
        with socket.create_server(("127.0.0.1", 0)) as free:
            self.port: int = free.getsockname()[1]
        config = (
            f"Port {self.port}\nListenAddress 127.0.0.1\nHostKey {room}/host\nPidFile {room}/pid\n"
            f"AuthorizedKeysFile {room}/authorized\nPasswordAuthentication no\nUsePAM no\nStrictModes no\n"
            "PermitRootLogin yes\nSubsystem sftp internal-sftp\nMaxStartups 100\n" + more
        )
        (room / "config").write_text(config)
        if os.geteuid() == 0:
            Path("/run/sshd").mkdir(exist_ok=True)
        self.open()

    def open(self) -> None:
        """Begins to serve, again after ``close``."""
        room = self.room
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


def certificate(room: Path) -> Path:
    """A key and a certificate of this machine's loopback, in one file; the certificate alone is beside it."""
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-keyout", room / "k",
         "-out", room / "crt", "-subj", "/CN=localhost",
         "-addext", "subjectAltName=DNS:localhost,IP:127.0.0.1"],
        check=True, capture_output=True,
    )  # fmt: skip
    pem = room / "pem"
    pem.write_bytes((room / "k").read_bytes() + (room / "crt").read_bytes())
    return pem


class Ftpd:
    """An FTP server in a process of its own, with manners of real hosts (tests/adapters/ftpd.py)."""

    def __init__(self, room: Path, root: Path, *manners: str, tls: bool = False) -> None:
        (room / "password").write_text("moonlit-fen\n")
        pem = str(certificate(room)) if tls else "-"
        command = [sys.executable, "-W", "ignore", "-m", "tests.adapters.ftpd", str(root), pem, *manners]
        self._process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        assert self._process.stdout is not None
        port = int(self._process.stdout.readline())
        self.reach = Reach(
            by="ftps" if tls else "ftp", host="127.0.0.1", port=port, user="tove", folder="/",
            password_file=str(room / "password"), insecure=not tls, certificate=str(room / "crt") if tls else "",
            implicit="implicit" in manners,
        )  # fmt: skip

    def close(self) -> None:
        self._process.terminate()
        self._process.wait(20)
        assert self._process.stdout is not None
        self._process.stdout.close()


class Vsftpd:
    """A real vsftpd that requires TLS and the control connection's session on data connections. Guests may write into
    the folder ``there``, so that no account is needed."""

    def __init__(self, room: Path, root: Path, *lines: str) -> None:
        certificate(room)
        (room / "nothing").mkdir()
        (room / "password").write_text("tove@harbour.example\n")
        with socket.create_server(("127.0.0.1", 0)) as free:
            port: int = free.getsockname()[1]
        (room / "vsftpd").write_text(
            f"listen=YES\nlisten_address=127.0.0.1\nlisten_port={port}\nbackground=NO\nanonymous_enable=YES\n"
            f"local_enable=NO\nwrite_enable=YES\nanon_root={root.parent}\nftp_username=daemon\nanon_umask=022\n"
            "anon_upload_enable=YES\nanon_mkdir_write_enable=YES\nanon_other_write_enable=YES\nseccomp_sandbox=NO\n"
            f"anon_world_readable_only=NO\nsecure_chroot_dir={room}/nothing\nssl_enable=YES\nallow_anon_ssl=YES\n"
            "force_anon_logins_ssl=YES\nforce_anon_data_ssl=YES\nrequire_ssl_reuse=YES\nssl_ciphers=HIGH\n"
            f"rsa_cert_file={room}/crt\nrsa_private_key_file={room}/k\n" + "".join(f"{one}\n" for one in lines)
        )
        shutil.chown(root, "daemon")
        self._process = subprocess.Popen(
            [VSFTPD, room / "vsftpd"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        end = time.monotonic() + 30
        while time.monotonic() < end:
            with socket.socket() as peer:
                if peer.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.05)
        self.reach = Reach(
            by="ftps", host="127.0.0.1", port=port, user="anonymous", folder=f"/{root.name}",
            password_file=str(room / "password"), certificate=str(room / "crt"),
        )  # fmt: skip

    def close(self) -> None:
        self._process.terminate()
        self._process.wait(20)


@not_fast
class Contract(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.room = Path(folder.name)

    def own_room(self) -> Path:
        return Path(tempfile.mkdtemp(dir=self.room))

    def ftp(self, there: Path, *manners: str, tls: bool = False) -> RemoteFiles:
        server = Ftpd(self.own_room(), there, *manners, tls=tls)
        self.addCleanup(server.close)
        return self.opened(server.reach)

    def opened(self, reach: Reach) -> RemoteFiles:
        files = open_remote(reach, self.room / "none")
        self.addCleanup(files.close)
        return files

    def vsftpd(self, there: Path, *lines: str) -> RemoteFiles:
        self.room.chmod(0o755)
        room = self.own_room()
        room.chmod(0o755)
        server = Vsftpd(room, there, *lines)
        self.addCleanup(server.close)
        return self.opened(server.reach)

    def ways(self) -> Iterator[tuple[str, Callable[[Path], RemoteFiles]]]:
        if HAS_FTPD:
            yield "ftp", lambda there: self.ftp(there)
            yield "ftp, awkward", lambda there: self.ftp(there, "no-mlsd", "no-rename-over", "passive=192.0.2.9")
            yield "ftp, another system", lambda there: self.ftp(there, "no-mlsd", "dos", "hash")
            yield "ftp, another language", lambda there: self.ftp(there, "no-mlsd", "latin")
            yield "ftps", lambda there: self.ftp(there, "hash", tls=True)
            yield "ftps, implicit", lambda there: self.ftp(there, "implicit", "no-mlsd", tls=True)
        if HAS_VSFTPD:
            yield "vsftpd", self.vsftpd
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
                self.assertEqual(files.read("a/b c/Åse.txt", 100, 1), b"wo")
                self.assertIsNone(files.read("a/none", 100))
                self.assertTrue(files.create("mark", b"x"))
                self.assertFalse(files.create("mark", b"y"))
                (there / "link").symlink_to("/etc/passwd")
                (there / "world").mkdir()
                (there / "world/w").write_text("w")
                found = files.listing(["world"])
                if not name.startswith(("ftp", "vs")):  # there a host says of a link what it leads to
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
                if name == "vsftpd":
                    shutil.chown(there / "half", "daemon")
                    shutil.chown(there / "long", "daemon")
                told: list[int] = []
                uploads = [Upload(path, source, len(data)) for path in ("half", "long", "deep/er/new")]
                files.upload([*uploads, Upload("run.sh", b"#!/bin/sh\n", 10, executable=True)], told.append)
                for path in ("half", "long", "deep/er/new"):
                    self.assertEqual((there / path).read_bytes(), data, path)
                self.assertEqual(os.access(there / "run.sh", os.X_OK), name != "vsftpd")  # guests may not do that there
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
                hashes = files.hashes(["half", "none", "run.sh", "deep/er/new"], told.append)
                digest = hashlib.sha256(data).hexdigest()
                self.assertEqual(
                    hashes,
                    {"half": digest, "deep/er/new": digest, "run.sh": hashlib.sha256(b"#!/bin/sh\n").hexdigest()},
                )
                self.assertEqual(bool(files.hashes_there), name in HASHES, files.hashes_there)
                files.make_folder("worlds/fen/empty")
                files.rename_all([("half", "worlds/fen/half"), ("long", "worlds/fen/more/long")])
                files.rename("worlds/fen", "worlds/moor")
                self.assertEqual(set(files.listing(below="worlds")), {"worlds/moor/half", "worlds/moor/more/long"})
                self.assertTrue((there / "worlds/moor/empty").is_dir())
                self.assertEqual(files.list_and_read(["worlds"], (), "run.sh", 3)[1], b"#!/")
                files.remove_folder("worlds")
                files.remove_folder("worlds")
                self.assertFalse((there / "worlds").exists())
                files.write("worlds/fen/again", b"x")
                files.remove_all(["worlds/fen/again", "none"])
                self.assertEqual(files.listing(below="worlds"), {})
                if name.startswith("ftp"):  # what cannot be listed is not taken for empty
                    (there / "locked").mkdir()
                    with self.assertRaises(RemoteError) as caught:
                        files.listing()
                    self.assertEqual(caught.exception.code, "remote-refused")
                with self.assertRaises(RhizonError) as full:
                    files.download([Download("deep/er/new", Path("/dev/full"))], told.append)
                self.assertIn("no space left", full.exception.message.lower())

    @unittest.skipUnless(HAS_FTPD, "pyftpdlib is not installed")
    def test_hosts_with_faults(self) -> None:
        """A full quota is said as such and not tried again; a line that drops is continued; an idle one is renewed."""
        data = os.urandom(1 << 20)
        uploads = [Upload(f"in/{number}", data, len(data)) for number in range(3)]

        def there() -> Path:
            return Path(tempfile.mkdtemp(dir=self.room))

        for words, code in ((["quota=1500000"], "remote-full"), (["quota=1500000", "no-mlsd"], "remote-full")):
            files = self.ftp(there(), *words)
            with self.assertRaises(RemoteError) as caught:
                files.upload(uploads, lambda _count: None)
            self.assertEqual(caught.exception.code, code)
        for tls in (False, True):
            place = there()
            server = Ftpd(self.own_room(), place, "drop=500000", tls=tls)
            self.addCleanup(server.close)
            with self.assertRaises(RemoteError) as caught:
                self.opened(server.reach).upload(uploads[:1], lambda _count: None)
            self.assertEqual(caught.exception.code, "remote-unreachable")  # which is tried again
            kept = (place / "in/0").stat().st_size
            self.assertGreater(kept, 100_000)
            told: list[int] = []
            self.opened(server.reach).upload(uploads[:1], told.append)
            self.assertEqual(((place / "in/0").read_bytes() == data, sum(told)), (True, len(data) - kept))
        with mock.patch("rhizon.adapters.remotes.ftp_line.IDLE_SECONDS", 0.5):
            files = self.ftp(there(), "idle=1")
            files.write("a", b"a")
            time.sleep(3)
            self.assertEqual(files.read("a", 9), b"a")

    @unittest.skipUnless(HAS_VSFTPD, "there is no vsftpd, or the tests do not run as root")
    def test_a_disk_that_gets_full(self) -> None:
        there = self.room / "small"
        there.mkdir()
        if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs", there], check=False).returncode:
            self.skipTest("nothing can be mounted here")
        self.addCleanup(subprocess.run, ["umount", there], check=True)
        ways: list[RemoteFiles] = [self.vsftpd(there)]
        if SSHD.exists():
            server = Sshd(self.room)
            self.addCleanup(server.close)
            ways.append(open_remote(server.reach(there), server.known()))
        for files in ways:
            with self.assertRaises(RemoteError) as caught:
                files.upload([Upload("a", os.urandom(5 << 20), 5 << 20)], lambda _count: None)
            self.assertIn(caught.exception.code, ("remote-full", "remote-refused"))
            files.remove("a")
            files.close()

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

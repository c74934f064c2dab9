"""Pushes beside the best peers: python bench/upload/run.py [CASE...] [--rounds N]

A server with many files is provisioned here and pushed as a whole command, over a real OpenSSH and a real vsftpd on
loopback, into an empty folder each time. The peers send the same files:

- sftp-small, sftp-large: `sftp -b`, the faster of its default cipher and aes128-gcm with large buffers, one `put -r`
- ftps-small, ftps-large: `lftp mirror -R --parallel=4`
- unchanged: a push with nothing to do to a server of 2,000 files, over a line of 40 ms round trip (no peer; seconds)

Small is 400 files of 200 KB, large one of 300 MB. Prints the median of each and the ratio. Needs root (vsftpd), sshd,
vsftpd, lftp, and asyncssh.
"""

import argparse
import asyncio
import getpass
import json
import os
import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

ROOT = Path(__file__).parents[2]
CATALOG = ROOT / "src/rhizon/world/harbour/catalog"
SIZES = {"small": [200_000] * 400, "large": [300_000_000], "many": [2_000] * 2_000}
DELAY = 0.02  # seconds, each way
CASES = ("sftp-small", "sftp-large", "ftps-small", "ftps-large", "unchanged")


class Place:
    """Folders, keys and servers of one run."""

    def __init__(self, room: Path) -> None:
        self.room = room
        self.environment = {**os.environ, "RHIZON_STATE": str(room / "state"), "RHIZON_CONFIG": str(room / "config")}
        self.there = room / "rented/there"
        self.processes: list[subprocess.Popen[bytes]] = []
        self._keys()

    def _keys(self) -> None:
        for name in ("host", "user"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", self.room / name], check=True)
        subprocess.run(
            ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-keyout", self.room / "k",
             "-out", self.room / "crt", "-subj", "/CN=localhost",
             "-addext", "subjectAltName=DNS:localhost,IP:127.0.0.1"],
            check=True, capture_output=True,
        )  # fmt: skip

    def run(self, *words: object) -> float:
        """A command of Rhizon's; how long it took, in seconds."""
        began = time.perf_counter()
        done = subprocess.run(
            [sys.executable, "-m", "rhizon", *map(str, words)], env=self.environment, cwd=self.room, capture_output=True
        )
        took = time.perf_counter() - began
        if done.returncode:
            raise SystemExit(f"rhizon {' '.join(map(str, words))}: {done.stdout.decode()}{done.stderr.decode()}")
        return took

    def server(self, name: str, sizes: list[int]) -> list[Path]:
        """A server here with so many files more than its own; those files."""
        pack = self.room / f"pack-{name}"
        files = pack / "files/server/extra"
        files.mkdir(parents=True)
        (pack / "rhizon-pack.toml").write_text(self.pack(name))
        for number, size in enumerate(sizes):
            folder = files / f"part{number % 20:02}"
            folder.mkdir(exist_ok=True)
            (folder / f"{number:04}.dat").write_bytes(os.urandom(size))
        self.run("provision", pack, name, "--name", name, "--catalog", CATALOG, "--accept-licence")
        return sorted(one for one in (self.room / name / "extra").rglob("*") if one.is_file())

    def pack(self, name: str) -> str:
        """A pack of the shipped game with nothing but files, for the target that Rhizon chooses now."""
        done = subprocess.run(
            [sys.executable, "-m", "rhizon", "solve", ROOT / "src/rhizon/world/harbour/drovemoor.list.toml",
             "--catalog", CATALOG, "--json"],
            env=self.environment, cwd=self.room, capture_output=True, check=True,
        )  # fmt: skip
        target = json.loads(done.stdout)["result"]["target"]
        lines = [f'format = "rhizon-pack/1"\nname = "{name}"\nversion = "1.0.0"\ntitle = "{name}"\ngame = "drovemoor"']
        lines.append(f'[target]\ngame_version = "{target["game_version"]}"\n[content]\ndroverlib = "2.1"')
        return "\n".join(lines) + "\n"

    def sshd(self) -> int:
        port = free_port()
        (self.room / "authorized").write_bytes((self.room / "user.pub").read_bytes())
        (self.room / "sshd").write_text(
            f"Port {port}\nListenAddress 127.0.0.1\nHostKey {self.room}/host\nPidFile {self.room}/sshd.pid\n"
            f"AuthorizedKeysFile {self.room}/authorized\nPasswordAuthentication no\nUsePAM no\nStrictModes no\n"
            "PermitRootLogin yes\nSubsystem sftp internal-sftp\n"
        )
        Path("/run/sshd").mkdir(exist_ok=True)
        self.start(["/usr/sbin/sshd", "-D", "-e", "-f", str(self.room / "sshd")], port)
        return port

    def vsftpd(self) -> int:
        """Anonymous users may write: no account is needed."""
        port = free_port()
        (self.room / "nothing").mkdir()
        self.room.chmod(0o755)
        (self.room / "vsftpd").write_text(
            f"listen=YES\nlisten_address=127.0.0.1\nlisten_port={port}\nbackground=NO\nanonymous_enable=YES\n"
            f"local_enable=NO\nwrite_enable=YES\nanon_root={self.there.parent}\nftp_username=daemon\nno_anon_password=NO\n"
            "anon_upload_enable=YES\nanon_mkdir_write_enable=YES\nanon_other_write_enable=YES\nanon_umask=022\n"
            f"anon_world_readable_only=NO\nallow_writeable_chroot=YES\nseccomp_sandbox=NO\nsecure_chroot_dir={self.room}/nothing\n"
            f"ssl_enable=YES\nallow_anon_ssl=YES\nforce_anon_logins_ssl=YES\nforce_anon_data_ssl=YES\n"
            f"rsa_cert_file={self.room}/crt\nrsa_private_key_file={self.room}/k\nrequire_ssl_reuse=YES\nssl_ciphers=HIGH\n"
        )
        self.start(["/usr/sbin/vsftpd", str(self.room / "vsftpd")], port)
        return port

    def start(self, command: list[str], port: int) -> None:
        self.processes.append(subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL))
        end = time.monotonic() + 20
        while time.monotonic() < end:
            with socket.socket() as peer:
                if peer.connect_ex(("127.0.0.1", port)) == 0:
                    return
            time.sleep(0.05)
        raise SystemExit(f"{command[0]} does not answer")

    def empty(self) -> None:
        """Nothing is there."""
        shutil.rmtree(self.there, ignore_errors=True)
        self.there.mkdir(parents=True)
        shutil.chown(self.there, "daemon")
        os.sync()

    def close(self) -> None:
        for process in self.processes:
            process.terminate()
            process.wait(20)


def free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as free:
        port: int = free.getsockname()[1]
    return port


def sftp_case(place: Place, name: str, rounds: int) -> None:
    files = place.server(name, SIZES[name])
    place.empty()
    port = place.sshd()
    place.run("remote", "new", f"r-{name}", "--sftp", f"{getpass.getuser()}@127.0.0.1:{port}", "--folder", place.there,
              "--key", place.room / "user")  # fmt: skip
    place.run("remote", "probe", f"r-{name}", "--accept-key")
    source = place.room / name / "extra"
    options = ["-i", str(place.room / "user"), "-P", str(port), "-o", "StrictHostKeyChecking=no",
               "-o", f"UserKnownHostsFile={place.room}/known", "-o", "LogLevel=ERROR"]  # fmt: skip
    batch = place.room / f"batch-{name}"
    batch.write_text(f"put -r {source} {place.there}/extra\n")
    tuned = ["-c", "aes128-gcm@openssh.com", "-B", "131072", "-R", "128"]
    peers = {
        "sftp -b": lambda: timed(["sftp", "-q", *options, "-b", batch, "127.0.0.1"]),
        "sftp -b, tuned": lambda: timed(["sftp", "-q", *options, *tuned, "-b", batch, "127.0.0.1"]),
    }
    compare(place, f"sftp-{name}", lambda: place.run("push", name, f"r-{name}"), peers, rounds, len(files))


def ftps_case(place: Place, name: str, rounds: int) -> None:
    files = place.server(name, SIZES[name])
    place.empty()
    port = place.vsftpd()
    (place.room / "password").write_text("nobody@harbour.example\n")
    place.run("remote", "new", f"f-{name}", "--ftps", f"anonymous@127.0.0.1:{port}", "--folder", "/there",
              "--password-file", place.room / "password", "--certificate", place.room / "crt")  # fmt: skip
    place.run("remote", "probe", f"f-{name}")
    source = place.room / name / "extra"
    script = (
        f"set ssl:ca-file {place.room}/crt; set ftp:ssl-force true; set ftp:ssl-protect-data true; "
        f"open -u anonymous,nobody@harbour.example ftp://127.0.0.1:{port}; mirror -R --parallel=4 {source} /there/extra"
    )
    peers = {"lftp, 4 connections": lambda: timed(["lftp", "-c", script])}
    compare(place, f"ftps-{name}", lambda: place.run("push", name, f"f-{name}"), peers, rounds, len(files))


def timed(command: list[object]) -> float:
    began = time.perf_counter()
    subprocess.run([str(one) for one in command], check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - began


def compare(
    place: Place, case: str, ours: Callable[[], float], peers: dict[str, Callable[[], float]], rounds: int, count: int
) -> None:
    took: dict[str, list[float]] = {"rhizon push": [], **{one: [] for one in peers}}
    for _ in range(rounds):
        for name, work in {"rhizon push": ours, **peers}.items():
            place.empty()
            took[name].append(work())
            found = sum(one.is_file() for one in (place.there / "extra").rglob("*"))
            if found != count:
                raise SystemExit(f"{case}: {name} brought {found} of {count} files")
    medians = {name: statistics.median(one) for name, one in took.items()}
    best = min(medians[one] for one in peers)
    for name, median in medians.items():
        print(f"{case:12} {name:20} {median:6.2f} s  (each: {', '.join(f'{one:.2f}' for one in took[name])})")
    print(f"{case:12} ratio to the best peer {medians['rhizon push'] / best:.2f}", flush=True)


def unchanged(place: Place, rounds: int) -> None:
    place.server("many", SIZES["many"])
    place.empty()
    port, slow = place.sshd(), free_port()
    for name, at in (("near", port), ("far", slow)):
        place.run("remote", "new", name, "--sftp", f"{getpass.getuser()}@127.0.0.1:{at}", "--folder", place.there,
                  "--key", place.room / "user")  # fmt: skip
    place.run("remote", "probe", "near", "--accept-key")
    place.run("push", "many", "near")
    place.start([sys.executable, __file__, "--line", str(slow), str(port)], slow)
    place.run("remote", "probe", "far", "--accept-key", "--dry-run")
    took = [place.run("push", "many", "far") for _ in range(rounds)]
    shown = ", ".join(f"{one:.2f}" for one in took)
    print(f"unchanged    2,000 files, 40 ms: {statistics.median(took):.2f} s  (each: {shown})", flush=True)
    control = [place.run("list") for _ in range(rounds)]
    print(f"unchanged    beside `rhizon list`: {statistics.median(control):.2f} s", flush=True)


async def line(listen: int, to: int) -> None:
    """Carries bytes between two ports of loopback, each after a delay."""

    async def pump(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        loop = asyncio.get_running_loop()
        queue: asyncio.Queue[tuple[float, bytes]] = asyncio.Queue()

        async def send() -> None:
            while True:
                due, data = await queue.get()
                await asyncio.sleep(max(0.0, due - loop.time()))
                if not data:
                    writer.close()
                    return
                writer.write(data)

        sender = asyncio.create_task(send())
        while True:
            data = await reader.read(1 << 16)
            await queue.put((loop.time() + DELAY, data))
            if not data:
                break
        await sender

    async def carry(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        far_reader, far_writer = await asyncio.open_connection("127.0.0.1", to)
        await asyncio.gather(pump(reader, far_writer), pump(far_reader, writer), return_exceptions=True)

    server = await asyncio.start_server(carry, "127.0.0.1", listen)
    await server.serve_forever()


def main() -> None:
    if sys.argv[1:2] == ["--line"]:
        asyncio.run(line(int(sys.argv[2]), int(sys.argv[3])))
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("cases", nargs="*", default=list(CASES), metavar="CASE")
    parser.add_argument("--rounds", type=int, default=5)
    asked = parser.parse_args()
    for case in asked.cases:
        with tempfile.TemporaryDirectory(prefix="upload-", dir="/var/tmp") as folder:
            place = Place(Path(folder))
            try:
                if case == "unchanged":
                    unchanged(place, asked.rounds)
                else:
                    way, _, name = case.partition("-")
                    (sftp_case if way == "sftp" else ftps_case)(place, name, asked.rounds)
            finally:
                place.close()


if __name__ == "__main__":
    main()

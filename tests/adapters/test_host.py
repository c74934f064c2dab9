"""The host's edges: ledger, sockets, runtimes, files, processes."""

import multiprocessing
import os
import socket
import sqlite3
import subprocess
import sys
import unittest
from pathlib import Path

import psutil

from rhizon.adapters import ledger as ledger_module
from rhizon.adapters.control_groups import memory_limit, processor_limit
from rhizon.adapters.files import read_bytes, translated, write_atomic
from rhizon.adapters.host import memory_mib, socket_in_use
from rhizon.adapters.instances import InstanceFolder, RunMark
from rhizon.adapters.ledger import Entry, Ledger
from rhizon.adapters.measured import Samples, make_room, process_runs
from rhizon.adapters.processes import ServerProcess, alive
from rhizon.adapters.run_log import RunLog, earlier_log
from rhizon.adapters.runtimes import Runtimes, probe
from rhizon.core.errors import InputError, StateError
from rhizon.core.runtimes import FAMILIES
from rhizon.core.secret import Secret
from tests.support import Case, not_fast


def claim_next(ledger_file: str, folder: str) -> int:
    """One command's way: look, take the lowest free number, record it."""
    ledger = Ledger(Path(ledger_file), write=True)
    with ledger.claim():
        held = {number for entry in ledger.entries() for number in entry.numbers}
        number = next(n for n in range(30000, 31000) if n not in held)
        ledger.put(_entry(folder, {"game": number}))
    ledger.close()
    return number


def _entry(folder: str, ports: dict[str, int]) -> Entry:
    return Entry(folder=folder, name="n", game="tarnholt", memory_mib=100, ports=ports, seen="1")


class ControlGroups(Case):
    """psutil sees no limit of a control group; a JVM does."""

    def tree(self, groups: str, mounts: str, files: dict[str, str]) -> Path:
        for name, text in {"proc/cgroup": groups, "proc/mountinfo": mounts, **files}.items():
            self.write(name, text.replace("AT", str(self.folder)))
        return self.folder / "proc"

    def test_limits_of_both_versions_and_of_the_groups_above(self) -> None:
        two = "30 1 0:1 / AT/two rw - cgroup2 none rw\n"
        one = "31 1 0:2 / AT/mem rw - cgroup none rw,memory\n32 1 0:3 /box AT/cpu rw - cgroup none rw,cpuacct,cpu\n"
        rows: tuple[tuple[str, str, str, dict[str, str], int | None, float | None], ...] = (
            ("none", "", "", {}, None, None),
            ("two", "0::/a/b\n", two, {"two/a/b/memory.max": "max\n", "two/a/memory.max": "900\n"}, 900, None),
            ("quota", "0::/a\n", two, {"two/a/cpu.max": "150000 100000\n", "two/cpu.max": "max 100000"}, None, 1.5),
            ("one", "4:memory:/a\n3:cpu,cpuacct:/box\n", one, {
                "mem/memory.limit_in_bytes": "9223372036854771712", "mem/a/memory.limit_in_bytes": "800\n",
                "cpu/cpu.cfs_quota_us": "50000", "cpu/cpu.cfs_period_us": "100000",
            }, 800, 0.5),
            ("outside", "0::/../x\n", two, {"two/memory.max": "700"}, 700, None),
            ("cut short", "0:\n4:memory\n", "x - cgroup2\n - \n", {}, None, None),
        )  # fmt: skip
        for name, groups, mounts, files, memory, processors in rows:
            with self.subTest(name):
                self.setUp()
                proc = self.tree(groups, mounts, files)
                self.assertEqual((memory_limit(proc), processor_limit(proc)), (memory, processors))

    def test_a_real_limit_is_seen(self) -> None:
        group = Path(f"/sys/fs/cgroup/memory/rhizon-test-{os.getpid()}")
        try:
            group.mkdir()
            (group / "memory.limit_in_bytes").write_text("600M")
        except OSError:
            self.skipTest("this machine has no memory control group of version 1 to write in")
        self.addCleanup(group.rmdir)
        words = "from rhizon.adapters.host import memory_mib; print(memory_mib())"
        command = f"echo $$ > {group}/cgroup.procs && exec {sys.executable} -c '{words}'"
        done = subprocess.run(["sh", "-c", command], capture_output=True, text=True)
        if "cgroup.procs" in done.stderr:
            self.skipTest("this machine does not let a process into a control group")
        self.assertEqual((done.stdout, done.stderr), ("600\n", ""))


class TheLedger(Case):
    @not_fast
    def test_many_commands_at_once_never_get_the_same_port(self) -> None:
        file = str(self.folder / "state" / "ledger.sqlite3")
        jobs = [(file, str(self.folder / f"i{n}")) for n in range(12)]
        with multiprocessing.get_context("spawn").Pool(6) as pool:
            numbers = pool.starmap(claim_next, jobs)
        self.assertEqual(sorted(numbers), list(range(30000, 30012)))

    def filled(self, name: str) -> Path:
        file = self.folder / name / "ledger.sqlite3"
        ledger = Ledger(file, write=True)
        with ledger.claim():
            for number in range(40):
                ledger.put(_entry(f"/srv/{name}/{number}", {"game": 30000 + number}))
        with self.assertRaises(ZeroDivisionError), ledger.claim():
            ledger.drop(f"/srv/{name}/0")
            raise ZeroDivisionError
        ledger.close()
        return file

    def known(self, file: Path, *, write: bool) -> tuple[int, str]:
        ledger = Ledger(file, write=write)
        try:
            return len(ledger.entries()), ledger.trouble
        finally:
            ledger.close()

    def test_damage_is_healed_from_the_copy_and_readers_change_nothing(self) -> None:
        def cut(file: Path) -> None:
            file.write_bytes(file.read_bytes()[: file.stat().st_size // 2])

        def noise(file: Path) -> None:
            file.write_bytes(b"\x07" * 9000)

        def flip(file: Path) -> None:
            data = bytearray(file.read_bytes())
            data[4096:4200] = b"\xff" * 104
            file.write_bytes(bytes(data))

        for number, damage in enumerate((cut, noise, flip, Path.unlink, lambda file: file.write_bytes(b""))):
            with self.subTest(number):
                file = self.filled(f"l{number}")
                damage(file)
                before = {one.name: one.read_bytes() for one in file.parent.iterdir()}
                count, trouble = self.known(file, write=False)
                self.assertEqual((count, bool(trouble)), (40, True))
                self.assertEqual({one.name: one.read_bytes() for one in file.parent.iterdir()}, before)
                self.assertEqual(self.known(file, write=True)[0], 40)
                self.assertEqual(self.known(file, write=False), (40, ""))

    def test_without_a_copy_folders_are_found_in_what_is_left(self) -> None:
        file = self.folder / "ledger.sqlite3"
        ledger = Ledger(file, write=True)
        with ledger.claim():
            for name in ("marsh", "moor", "gone"):
                ledger.put(_entry(str(self.folder / name), {"game": 1}))
        ledger.close()
        for name in ("marsh", "moor"):
            self.write(f"{name}/.rhizon/instance.toml", "")
        file.with_name("ledger-copy.json").unlink()
        file.write_bytes(b"x" * 100 + file.read_bytes()[100:])
        found = Ledger(file, write=True)
        self.addCleanup(found.close)
        self.assertEqual(
            [one.folder for one in found.entries()], [str(self.folder / "marsh"), str(self.folder / "moor")]
        )
        self.assertIn("2 servers", found.trouble)

    def test_one_of_an_earlier_and_one_of_a_newer_rhizon(self) -> None:
        old = self.folder / "old.sqlite3"
        db = sqlite3.connect(old, isolation_level=None)
        db.executescript(f"BEGIN; {ledger_module._MIGRATIONS[0]} PRAGMA user_version = 1; COMMIT;")
        db.execute("INSERT INTO instances VALUES ('/srv/fen', 'fen', 'tarnholt', 'Thursdays', 400)")
        db.execute("INSERT INTO ports VALUES ('/srv/fen', 'game', 21640, 'tcp')")
        db.close()
        for write in (False, True, False):
            ledger = Ledger(old, write=write)
            (entry,) = ledger.entries()
            ledger.close()
            self.assertEqual(
                (entry.name, entry.note, entry.ports, entry.memory_mib), ("fen", "Thursdays", {"game": 21640}, 400)
            )
        db = sqlite3.connect(old)
        db.execute("PRAGMA user_version = 99")
        db.close()
        with self.assertRaises(StateError) as caught:
            Ledger(old, write=True)
        self.assertEqual(caught.exception.code, "ledger-newer")


class Sockets(unittest.TestCase):
    def test_in_use_is_tried(self) -> None:
        for kind, protocol in ((socket.SOCK_STREAM, "tcp"), (socket.SOCK_DGRAM, "udp")):
            with socket.socket(socket.AF_INET, kind) as held:
                held.bind(("127.0.0.1", 0))
                if protocol == "tcp":
                    held.listen()
                number = held.getsockname()[1]
                self.assertTrue(socket_in_use(number, protocol))
            self.assertFalse(socket_in_use(number, protocol))

    def test_memory_is_a_sensible_number(self) -> None:
        self.assertTrue(64 < memory_mib() < 1 << 24)


class OnThisMachine(Case):
    def fake(self, name: str, script: str) -> Path:
        path = self.write(f"{name}/bin/java", f"#!/bin/sh\n{script}\n")
        path.chmod(0o755)
        return path

    def test_each_candidate_is_proved(self) -> None:
        says = "printf '    java.specification.version = 21\\n    java.version = 21.0.1\\n' >&2"
        rows = (
            ("good", says, 21),
            ("fails", f"{says}; exit 1", None),
            ("other", "echo hello", None),
            ("noisy", f'test -z "$JAVA_TOOL_OPTIONS" && {says}', 21),
        )
        os.environ["JAVA_TOOL_OPTIONS"] = "-Dx=y"
        self.addCleanup(os.environ.pop, "JAVA_TOOL_OPTIONS")
        for name, script, major in rows:
            with self.subTest(name):
                report = probe(FAMILIES["java"], self.fake(name, script))
                self.assertEqual(report.major if report else None, major)
        self.assertIsNone(probe(FAMILIES["java"], self.write("not-executable", "x")))

    def test_found_once_by_its_first_way(self) -> None:
        home = self.fake("home", "printf '    java.specification.version = 11\\n' >&2").parents[1]
        before = os.environ.get("JAVA_HOME")
        os.environ["JAVA_HOME"] = str(home)
        self.addCleanup(lambda: os.environ.pop("JAVA_HOME") if before is None else os.environ.update(JAVA_HOME=before))
        remembered = self.folder / "state" / "probes.json"
        found = Runtimes(self.folder / "own", remembered).find(FAMILIES["java"])
        self.assertIn((str(home / "bin" / "java"), "environment"), [(one.program, one.how) for one in found])
        self.assertEqual(len({one.program for one in found}), len(found))
        # what a program said is remembered until its file changes
        program = home / "bin" / "java"
        mark = self.folder / "asked"
        program.write_text(f"#!/bin/sh\ntouch {mark}\nprintf '    java.specification.version = 17\\n' >&2\n")
        for asked in (True, False):
            mark.unlink(missing_ok=True)
            again = Runtimes(self.folder / "own", remembered).find(FAMILIES["java"])
            majors = [one.report.major for one in again if one.program == str(program) and one.report]
            self.assertEqual((majors, mark.exists()), ([17], asked))


class Files(Case):
    def test_atomic_write_and_its_failures(self) -> None:
        path = self.folder / "new" / "f.txt"
        write_atomic(path, b"1", 0o600)
        write_atomic(path, b"2", 0o600)
        self.assertEqual((path.read_bytes(), path.stat().st_mode & 0o777), (b"2", 0o600))
        self.assertEqual([one.name for one in path.parent.iterdir()], ["f.txt"])
        for number, code in ((28, "disk-full"), (13, "not-allowed"), (30, "not-allowed"), (5, "file-trouble")):
            with self.assertRaises(StateError) as caught, translated("write", path):
                raise OSError(number, "said the system")
            self.assertEqual(caught.exception.code, code)
        for wrong in (self.folder, self.folder / "nothing"):
            with self.assertRaises(InputError):
                read_bytes(wrong, "list")
        with self.assertRaises(InputError):
            read_bytes(path, "list", most=0)


class Processes(Case):
    def test_lines_console_and_end(self) -> None:
        code = "import sys\nprint('up', flush=True)\nfor line in sys.stdin: print('got', line.strip(), flush=True)"
        server = ServerProcess([sys.executable, "-c", code], self.folder)
        self.addCleanup(server.close)
        self.assertEqual(server.line(20), "up")
        server.send("hello")
        self.assertEqual(server.line(20), "got hello")
        self.assertTrue(alive(server.pid, server.since))
        self.assertFalse(alive(server.pid, server.since - 100))
        self.assertIsNone(server.line(0.01))
        self.assertFalse(server.over)
        server.end()
        server.send("nobody hears")
        self.assertEqual(server.wait(5), 128 + 15)
        self.assertIsNone(server.line(5))
        self.assertTrue(server.over)
        self.assertFalse(alive(server.pid, server.since))
        with self.assertRaises(StateError):
            ServerProcess(["/no/such/program"], self.folder)

    def test_a_log_is_bounded_and_a_full_disk_does_not_end_it(self) -> None:
        self.write(".rhizon/last-run.log", "the run before\n")
        log = RunLog(self.folder, most_bytes=100)
        self.addCleanup(log.close)
        self.assertEqual(earlier_log(self.folder), b"the run before\n")
        for number in range(30):
            self.assertEqual(log.write(f"line {number}"), "")
        kept = (earlier_log(self.folder) or b"").decode() + log.path.read_text()
        self.assertTrue(kept.endswith("line 28\nline 29\n"), kept)
        self.assertLessEqual(len(kept), 200)
        mount = self.folder / "small"
        mount.mkdir()
        if os.geteuid() or subprocess.run(["mount", "-t", "tmpfs", "-o", "size=8k", "tmpfs", str(mount)]).returncode:
            self.skipTest("this machine does not allow to mount")
        self.addCleanup(subprocess.run, ["umount", str(mount)], check=True)
        full = RunLog(mount)
        try:
            (mount / "fill").write_bytes(b"x" * 4096)
            said = [full.write("y" * 2000) for _ in range(6)]
            self.assertIn("No space left on device", said)
            (mount / "fill").unlink()
            self.assertEqual(full.write("room again"), "")
        finally:
            full.close()

    def test_what_a_server_started_is_measured_with_it(self) -> None:
        child = "import time; x = bytearray(90 << 20); print('up', flush=True); time.sleep(60)"
        code = f"import subprocess, sys; subprocess.run([sys.executable, '-c', {child!r}])"
        server = ServerProcess([sys.executable, "-c", code], self.folder)
        self.addCleanup(server.close)
        self.assertEqual(server.line(20), "up")
        make_room(self.folder)
        Samples(self.folder, server.pid).tick()
        ((seconds, mib),) = process_runs(self.folder / ".rhizon")[0]
        self.assertLess(seconds, 5)
        self.assertTrue(100 < mib < 160, mib)

    def test_two_commands_keep_apart_and_a_run_mark_dies_with_its_process(self) -> None:
        home = InstanceFolder(self.folder / "i")
        with home.busy() as taken_back:
            self.assertFalse(taken_back)
            with self.assertRaises(StateError) as caught, InstanceFolder(self.folder / "i").busy():
                pass
            self.assertEqual(caught.exception.code, "instance-busy")
        self.assertFalse((self.folder / "i").exists())
        home.own.mkdir(parents=True)
        home.mark_running(RunMark(os.getpid(), 1.0))
        self.assertIsNone(home.running())
        later = RunMark(os.getpid(), psutil.Process().create_time(), 1, Secret("t"))
        home.mark_running(later)
        home.mark_ended(RunMark(os.getpid(), 1.0))  # a run that ends late
        self.assertEqual(home.running(), later)
        home.mark_ended(later)
        self.assertFalse((home.own / "running.json").exists())
        self.write("i/.rhizon/running.json", "{")
        self.assertIsNone(home.running())

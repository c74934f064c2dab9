"""The host's edges: ledger, sockets, runtimes, files, processes."""

import multiprocessing
import os
import socket
import subprocess
import sys
import unittest
from pathlib import Path

import psutil

from rhizon.adapters.control_groups import memory_limit, processor_limit
from rhizon.adapters.files import hash_present, read_bytes, remove_tree, translated, write_atomic
from rhizon.adapters.host import memory_mib, socket_in_use
from rhizon.adapters.instances import InstanceFolder, RunMark
from rhizon.adapters.ledger import Entry, Ledger
from rhizon.adapters.measured import Samples, make_room, process_runs
from rhizon.adapters.processes import ServerProcess, alive
from rhizon.adapters.run_log import BEFORE, RunLog
from rhizon.adapters.runtimes import Runtimes, probe
from rhizon.core.errors import InputError, StateError
from rhizon.core.names import RelPath
from rhizon.core.runtimes import FAMILIES
from tests.support import Case


def claim_next(ledger_file: str, folder: str) -> int:
    """One command's way: look, take the lowest free number, record it."""
    Path(folder, ".rhizon").mkdir(parents=True)
    ledger = Ledger(Path(ledger_file))
    with ledger.claim():
        held = {number for entry in ledger.entries() for number in entry.ports.values()}
        number = next(n for n in range(30000, 31000) if n not in held)
        ledger.record(_entry(folder, {"game": number}), {"game": ("tcp", "udp")})
    ledger.close()
    return number


def _entry(folder: str, ports: dict[str, int]) -> Entry:
    return Entry(folder=folder, name="n", game="tarnholt", note="", memory_mib=100, ports=ports)


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
    def test_many_commands_at_once_never_get_the_same_port(self) -> None:
        file = str(self.folder / "state" / "ledger.sqlite3")
        jobs = [(file, str(self.folder / f"i{n}")) for n in range(12)]
        with multiprocessing.get_context("spawn").Pool(6) as pool:
            numbers = pool.starmap(claim_next, jobs)
        self.assertEqual(sorted(numbers), list(range(30000, 30012)))

    def test_a_folder_that_is_gone_gives_its_ports_back(self) -> None:
        ledger = Ledger(self.folder / "ledger.sqlite3")
        self.addCleanup(ledger.close)
        first, second = str(self.folder / "a"), str(self.folder / "b")
        for folder in (first, second):
            Path(folder, ".rhizon").mkdir(parents=True)
        with ledger.claim():
            ledger.record(_entry(first, {"game": 1}), {"game": ("udp",)})
        remove_tree(Path(first))
        self.assertEqual(ledger.entries(), [])
        with ledger.claim():
            ledger.record(_entry(second, {"game": 1}), {"game": ("udp",)})
        self.assertEqual([one.folder for one in ledger.entries()], [second])
        with self.assertRaises(ZeroDivisionError), ledger.claim():
            ledger.forget(second)
            raise ZeroDivisionError
        self.assertEqual(len(ledger.entries()), 1)

    def test_a_broken_or_newer_one(self) -> None:
        broken = self.write("broken.sqlite3", b"not a data base" * 100)
        newer = self.folder / "newer.sqlite3"
        ledger = Ledger(newer)
        ledger._db.execute("PRAGMA user_version = 99")
        ledger.close()
        for file in (broken, newer):
            with self.assertRaises(StateError) as caught:
                Ledger(file)
            self.assertEqual(caught.exception.code, "ledger-broken")


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
        found = Runtimes(self.folder / "own", remembered).find("java")
        self.assertIn((str(home / "bin" / "java"), "environment"), [(one.program, one.how) for one in found])
        self.assertEqual(len({one.program for one in found}), len(found))
        self.assertEqual(Runtimes(self.folder, remembered).find("none"), [])
        # what a program said is remembered until its file changes
        program = home / "bin" / "java"
        mark = self.folder / "asked"
        program.write_text(f"#!/bin/sh\ntouch {mark}\nprintf '    java.specification.version = 17\\n' >&2\n")
        for asked in (True, False):
            mark.unlink(missing_ok=True)
            again = Runtimes(self.folder / "own", remembered).find("java")
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

    def test_links_are_not_followed(self) -> None:
        (self.folder / "link").symlink_to("/etc/hostname")
        (self.folder / "dir").mkdir()
        for name in ("link", "dir"):
            with self.assertRaises(StateError):
                hash_present(self.folder, [RelPath(name)])


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
        self.write("last-run.log", "the run before\n")
        log = RunLog(self.folder, most_bytes=100)
        self.addCleanup(log.close)
        self.assertEqual((self.folder / BEFORE).read_text(), "the run before\n")
        for number in range(30):
            self.assertEqual(log.write(f"line {number}"), "")
        kept = (self.folder / BEFORE).read_text() + log.path.read_text()
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
        ((seconds, mib),) = process_runs(self.folder)[0]
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
        later = RunMark(os.getpid(), psutil.Process().create_time(), 1, "t")
        home.mark_running(later)
        home.mark_ended(RunMark(os.getpid(), 1.0))  # a run that ends late
        self.assertEqual(home.running(), later)
        home.mark_ended(later)
        self.assertFalse((home.own / "running.json").exists())
        self.write("i/.rhizon/running.json", "{")
        self.assertIsNone(home.running())

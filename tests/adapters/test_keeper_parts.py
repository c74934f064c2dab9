"""The keeper's parts one by one: log files that are followed, the log of a run, samples, word to a service manager."""

import gzip
import os
import socket
import subprocess
import sys
import time
import unittest
from pathlib import Path
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from rhizon.adapters.run_log import earlier_log
from rhizon.keeper.consoles import console_by
from rhizon.keeper.control import Client, Holds
from rhizon.keeper.followed import FollowedLogs
from rhizon.keeper.job import Job
from rhizon.keeper.notify import ServiceManager
from rhizon.keeper.output import MOST_RUNS, Output, archive_run
from rhizon.keeper.places import read_json, write_json
from rhizon.keeper.process import Server, began
from rhizon.keeper.samples import Samples
from tests import examples
from tests.support import Case


class OverTcp(unittest.TestCase):
    def test_one_line_at_a_time(self) -> None:
        """A line is typed when the answer to the one before has ended; what ends an answer is not shown."""
        heard: list[str] = []
        with socket.create_server(("127.0.0.1", 0)) as server:
            rule = {"by": "tcp", "port": server.getsockname()[1], "ends": "^done$", "line_end": "nul"}
            console = console_by(rule, Path(), "utf-8", heard.append)
            self.assertTrue(console.send("one") and console.send("two"))
            connection, _ = server.accept()
            with connection:
                connection.settimeout(30)
                self.assertEqual(connection.recv(99), b"one\0")
                connection.sendall(b"first\n")
                connection.settimeout(0.5)
                with self.assertRaises(TimeoutError):
                    connection.recv(99)
                connection.settimeout(30)
                connection.sendall(b"done\n")
                self.assertEqual(connection.recv(99), b"two\0")
                connection.sendall(b"second\0done\0")
                until = time.monotonic() + 30
                while len(heard) < 2 and time.monotonic() < until:
                    time.sleep(0.01)
            console.close()
        self.assertEqual(heard, ["first", "second"])


class Followed(Case):
    def followed(self, *rules: tuple[str, str]) -> FollowedLogs:
        logs = FollowedLogs(self.folder, rules)
        self.addCleanup(logs.close)
        return logs

    def lines(self, logs: FollowedLogs, *, last: bool = True) -> list[str]:
        return [line for line, _ in logs.lines(last=last)]

    def test_from_now_on_over_rotation_and_a_cut(self) -> None:
        log = self.write("logs/day.log", "before\n")
        logs = self.followed(("logs/day.log", "utf-8"))
        self.assertEqual(self.lines(logs), [])
        with log.open("a") as more:
            more.write("one\ntw")
        self.assertEqual(self.lines(logs, last=False), [])  # it was looked at a moment ago
        time.sleep(0.25)
        self.assertEqual(self.lines(logs, last=False), ["one"])
        with log.open("a") as more:
            more.write("o\r\n")
        self.assertEqual(self.lines(logs), ["two"])
        log.rename(log.with_suffix(".1"))
        log.write_text("new file\nno end")
        self.assertEqual(self.lines(logs), ["new file", "no end"])
        log.write_text("cut\n")
        self.assertEqual(self.lines(logs), ["cut"])

    def test_the_newest_of_a_pattern(self) -> None:
        self.write("smoke/kiln-1.log", "old\n")
        logs = self.followed(("smoke/kiln-*.log", "latin-1"), ("smoke/[x]?.log", "utf-8"))
        with (self.folder / "smoke/kiln-1.log").open("ab") as more:
            more.write(b"last of the old\n")
        self.assertEqual(self.lines(logs), ["last of the old"])
        os.utime(self.write("smoke/kiln-2.log", "Åse\n".encode("latin-1")), (2e9, 2e9))
        self.assertEqual(self.lines(logs), ["Åse"])
        self.assertEqual([path for _, path in logs.lines(last=True)], [])
        self.write("smoke/[x]?.log", "a name with signs\n")
        self.assertEqual(self.lines(logs), ["a name with signs"])

    def test_utf_16_in_the_middle(self) -> None:
        log = self.write("a.log", "høns\n".encode("utf-16"))
        logs = self.followed(("a.log", "utf-16"))
        with log.open("ab") as more:
            more.write("ænder\n".encode("utf-16-le"))
        self.assertEqual(self.lines(logs), ["ænder"])

    def test_what_is_no_log(self) -> None:
        self.write("real/a.log", "x\n")
        (self.folder / "linked").symlink_to(self.folder / "real")
        (self.folder / "b.log").symlink_to(self.folder / "real/a.log")
        os.mkfifo(self.folder / "c.log")
        logs = self.followed(("linked/a.log", "utf-8"), ("b.log", "utf-8"), ("c.log", "utf-8"), ("no/x.log", "utf-8"))
        with (self.folder / "real/a.log").open("a") as more:
            more.write("not over a link\n")
        self.assertEqual(self.lines(logs), [])


class Logs(Case):
    def setUp(self) -> None:
        super().setUp()
        (self.folder / ".rhizon").mkdir()

    def test_runs_are_archived_and_bounded(self) -> None:
        archive_run(self.folder)  # there is none yet
        for number in range(MOST_RUNS + 5):
            self.write(".rhizon/last-run.log", f"run {number}\n")
            self.write(".rhizon/last-run.times", f"0 {1_790_000_000 + number}.25\n")
            archive_run(self.folder)
        kept = sorted((self.folder / ".rhizon/runs").glob("*.log.gz"))
        self.assertEqual(len(kept), MOST_RUNS)
        self.assertEqual(gzip.decompress(kept[-1].read_bytes()), f"run {MOST_RUNS + 4}\n".encode())
        self.assertEqual(len(list((self.folder / ".rhizon/runs").glob("*.times"))), MOST_RUNS)
        for text in ("one\n", "two\n"):  # of the same moment
            self.write(".rhizon/last-run.log", text)
            self.write(".rhizon/last-run.times", "0 1799999999.25\n")
            archive_run(self.folder)
        self.assertEqual(earlier_log(self.folder), b"two\n")

    def test_a_hole_and_a_full_disk(self) -> None:
        self.write(".rhizon/last-run.log", b"\0" * (3 << 20) + b"after the hole\n")
        archive_run(self.folder)
        self.assertEqual(earlier_log(self.folder), b"after the hole\n")
        self.write(".rhizon/last-run.log", "cannot be compressed\n")
        with mock.patch("rhizon.keeper.output.shutil.copyfileobj", side_effect=OSError(28, "full")):
            archive_run(self.folder)
        self.assertEqual((self.folder / ".rhizon/runs/unpacked.log").read_text(), "cannot be compressed\n")
        self.assertEqual(list((self.folder / ".rhizon/runs").glob("*.new")), [])

    @given(st.lists(st.binary(max_size=30), max_size=examples(12)))
    def test_lines_are_whole_however_they_come(self, parts: list[bytes]) -> None:
        (self.folder / ".rhizon/last-run.log").write_bytes(b"")
        output = Output(self.folder, "utf-8")
        got = []
        for part in parts:
            output.append(part)
            got += list(output.read())
        whole = b"".join(parts).decode("utf-8", "replace")
        read = "\n".join([*got, output.rest()]) if got else output.rest()
        output.close()
        self.assertEqual(read.replace("\ufffd", ""), whole.replace("\ufffd", ""))

    def test_a_log_that_somebody_cuts(self) -> None:
        output = Output(self.folder, "utf-8")
        self.addCleanup(output.close)
        output.append(b"one\ntwo\n")
        self.assertEqual(list(output.read()), ["one\ntwo"])
        (self.folder / ".rhizon/last-run.log").write_bytes(b"new\n")
        self.assertEqual(list(output.read()), ["new"])


class Small(Case):
    def test_documents(self) -> None:
        path = self.folder / "x.json"
        write_json(path, {"a": 1}, 0o600)
        self.assertEqual((read_json(path), path.stat().st_mode & 0o777), ({"a": 1}, 0o600))
        for text in ("", "[]", "{", "\0"):
            path.write_text(text)
            self.assertIsNone(read_json(path))
        (self.folder / ".rhizon").mkdir()
        for text in ("{}", '{"command": "x"}', "[]"):
            self.write(".rhizon/keeper-job.json", text)
            self.assertRaises(ValueError, Job.read, self.folder)
        Job("x", ["y"], {}, ready="z").write(self.folder)
        self.assertEqual(Job.read(self.folder), Job("x", ["y"], {}, ready="z"))

    def test_a_service_manager_hears_it(self) -> None:
        address = str(self.folder / "s")
        heard = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        self.addCleanup(heard.close)
        heard.bind(address)
        heard.settimeout(5)
        with mock.patch.dict(os.environ, {"NOTIFY_SOCKET": address, "WATCHDOG_USEC": "200000"}):
            manager = ServiceManager()
            self.assertNotIn("NOTIFY_SOCKET", os.environ)  # not for the server
        manager.tell("READY=1\nSTATUS=ready")
        self.assertEqual(heard.recv(100), b"READY=1\nSTATUS=ready")
        manager.alive()
        manager.alive()  # a moment later: not due
        time.sleep(0.11)
        manager.alive()
        self.assertEqual([heard.recv(100), heard.recv(100)], [b"WATCHDOG=1"] * 2)
        heard.close()
        manager.tell("STOPPING=1")  # nobody hears it, and that is no harm
        ServiceManager().tell("x")

    def test_samples_of_a_family(self) -> None:
        child = "import time; x = bytearray(60 << 20); print('up', flush=True); time.sleep(60)"
        code = f"import subprocess, sys; subprocess.run([sys.executable, '-c', {child!r}])"
        process = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE)
        self.addCleanup(process.communicate)
        assert process.stdout is not None
        process.stdout.readline()
        (self.folder / ".rhizon").mkdir()
        adopted = Server.adopt(self.folder, process.pid, began(process.pid))
        assert adopted is not None
        self.addCleanup(adopted.close)
        self.addCleanup(adopted.kill)
        self.assertEqual(len(adopted.family()), 2)
        samples = Samples(self.folder / "p.csv")
        self.assertTrue(samples.due)
        samples.take(adopted.family())
        self.assertFalse(samples.due)
        _, mib, threads, seconds = (self.folder / "p.csv").read_text().strip().split(",")
        self.assertGreater(float(mib), 60)
        self.assertGreaterEqual(int(threads), 2)
        self.assertGreater(float(seconds), 0)
        self.assertEqual(adopted.poll(), (False, None))
        adopted.kill()
        process.wait(10)
        self.assertEqual(adopted.poll()[0], True)
        self.assertIsNone(Server.adopt(self.folder, process.pid, time.time()))
        self.assertEqual(began(2**22 + 9), 0.0)
        Samples(Path("/proc/none/p.csv")).take([1])  # what cannot be written is not measured

    def test_a_hold_lasts_as_long_as_its_last_client(self) -> None:
        said: list[str] = []
        holds = Holds({"command": "still", "done": "is saved", "release": "flow"}, said.append)
        mine, theirs = socket.socketpair()
        self.addCleanup(mine.close)
        self.addCleanup(theirs.close)
        first, second = Client(mine), Client(mine)
        holds.begin(first)
        holds.begin(second)
        self.assertTrue(holds.awaited)
        holds.heard("fen is not")
        holds.heard("fen is saved")
        self.assertFalse(holds.awaited)
        self.assertEqual(theirs.recv(1000).count(b"held"), 2)
        holds.end(first)
        self.assertEqual(said, ["still", "still"])
        holds.end(second)
        self.assertEqual(said, ["still", "still", "flow"])


if __name__ == "__main__":
    unittest.main()

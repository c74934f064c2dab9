"""Real keepers of a small server: its console, its output, its crashes, and what is left when one of them is killed."""

import contextlib
import gzip
import json
import os
import signal
import socket
import sys
import textwrap
import time
import unittest
from collections.abc import Callable
from typing import Any

from rhizon.adapters.console import ConsoleClient
from rhizon.adapters.inside import Inside
from rhizon.adapters.instances import InstanceFolder, RunMark
from rhizon.adapters.keepers import KeptProcess, Life, adopt, life_of, start_keeper
from rhizon.adapters.processes import alive
from rhizon.core.errors import StateError
from rhizon.core.secret import Secret
from rhizon.keeper.job import Job
from rhizon.keeper.output import Output
from tests.support import Case, not_fast

SERVER = """
    import sys, time
    print("open", flush=True)
    for line in sys.stdin:
        word, _, rest = line.strip().partition(" ")
        print(f"heard {line.strip()}", flush=True)
        if word == "still": print("is saved", flush=True)
        if word == "many":
            for number in range(int(rest)): print(f"line {number}")
            sys.stdout.flush()
        if word == "end": sys.exit(int(rest))
        if word == "stop": print("shut", flush=True); sys.exit(0)
    print("end of input", flush=True)
"""
HOLD = {"command": "still", "done": "is saved", "release": "flow", "seconds": 2}


@not_fast
class Keepers(Case):
    def setUp(self) -> None:
        super().setUp()
        self.home = InstanceFolder(self.folder / ("a" * 200))  # longer than the name of a socket may be
        (self.home.own / "measured").mkdir(parents=True)
        self.script = self.write("server.py", textwrap.dedent(SERVER))
        self.pids: list[int] = []
        self.addCleanup(self.end)

    def end(self) -> None:
        life = life_of(self.home)
        pids = [life.keeper.pid, life.pid] if life is not None else []
        for pid in (*pids, *self.pids):
            with contextlib.suppress(ProcessLookupError):
                os.kill(pid or 2**30, signal.SIGKILL)

    def start(self, **changes: Any) -> Life:
        job = {
            "name": "tally",
            "command": [sys.executable, str(self.script)],
            "environment": {},
            "ready": "^open$",
            "closed": "^shut$",
            "stop": "stop",
            "stop_seconds": 5,
            "pause_seconds": 0.1,
            **changes,
        }
        return start_keeper(self.home, Job(**job))

    def until(self, what: Callable[[], object], seconds: float = 20) -> None:
        end = time.monotonic() + seconds
        while not what():
            self.assertLess(time.monotonic(), end, f"{life_of(self.home)}\n{self.printed()[-500:]}")
            time.sleep(0.02)

    def in_state(self, state: str) -> Life:
        self.until(lambda: getattr(life_of(self.home), "state", "") == state)
        life = life_of(self.home)
        assert life is not None
        return life

    def mark(self) -> RunMark:
        mark = self.home.running()
        assert mark is not None
        return mark

    def printed(self) -> str:
        log = self.home.own / "last-run.log"
        return log.read_text() if log.exists() else ""

    def client(self) -> ConsoleClient:
        client = ConsoleClient(self.home, self.mark())
        self.addCleanup(client.close)
        return client

    def test_a_console_that_several_use_and_a_clean_stop(self) -> None:
        self.start(hold=HOLD)
        ready = self.in_state("ready")
        first, second = self.client(), self.client()
        first.hold(5)
        second.send("say hello\nstop\x1b[2J\0")
        self.until(lambda: "heard say hello stop [2J" in self.printed())
        self.assertNotIn("heard flow", self.printed())
        first.close()  # the hold ends with its client
        self.until(lambda: "heard flow" in self.printed())
        second.stop()
        ended = self.in_state("stopped")
        self.assertEqual((ended.exit_code, ended.began), (0, ready.began))
        self.until(lambda: not alive(ended.keeper.pid, ended.keeper.since))
        self.assertIsNone(self.home.running())
        self.assertRaises(StateError, ConsoleClient, self.home, RunMark(ready.pid, 0.0, 0, Secret("gone")))
        self.assertNotIn("end of input", self.printed())

    def test_a_keeper_that_is_killed_ends_nothing(self) -> None:
        self.start(hold=None)
        before = self.in_state("ready")
        os.kill(before.keeper.pid, signal.SIGKILL)
        self.until(lambda: not alive(before.keeper.pid, before.keeper.since))
        self.assertRaises(StateError, self.client)
        time.sleep(0.3)
        self.assertTrue(alive(before.pid, before.process_since))
        self.assertEqual(adopt(self.home).pid, before.pid)
        self.assertEqual(self.in_state("ready").keeper.pid == before.keeper.pid, False)
        client = self.client()
        with self.assertRaises(StateError) as caught:
            client.hold(1)
        self.assertIn("no console.hold", caught.exception.message)
        client.send("end 0")
        self.assertEqual(self.in_state("crashed").exit_code, None)  # nobody knows, and it did not say that it shut
        self.assertNotIn("end of input", self.printed())

    def test_crashes_and_a_loop_of_them(self) -> None:
        told = self.folder / "told"
        event = [sys.executable, "-c", f"import sys; open({str(told)!r}, 'a').write(' '.join(sys.argv[1:2]) + '\\n')"]
        self.start(restart="on-crash", most_restarts=2, events=event)
        pids = set()
        for number in range(3):
            self.until(lambda events=2 * number + 1: told.exists() and len(told.read_text().splitlines()) == events)
            pids.add(self.mark().pid)
            self.client().send(f"end {number + 3}")
            self.until(lambda events=2 * number + 2: len(told.read_text().splitlines()) == events)
        looped = self.in_state("crash-loop")
        self.assertEqual((looped.exit_code, looped.restarts, len(pids)), (5, 2, 3))
        self.assertEqual(told.read_text().split(), ["ready", "crashed"] * 3)
        earlier = sorted((self.home.own / "runs").glob("*.log.gz"))
        self.assertIn("heard end", gzip.decompress(earlier[0].read_bytes()).decode())

    def test_restarts_are_given_up_when_asked_to(self) -> None:
        life = self.start(restart="always", pause_seconds=60)
        self.in_state("ready")
        self.client().send("end 7")
        self.until(lambda: getattr(life_of(self.home), "next_start", None))
        os.kill(life.keeper.pid, signal.SIGTERM)
        self.until(lambda: not alive(life.keeper.pid, life.keeper.since))

    def test_a_server_that_does_not_stop_is_ended(self) -> None:
        self.script.write_text("import signal, time\nsignal.signal(15, lambda *_: None)\nprint('open', flush=True)\n"
                               "while True: time.sleep(1)\n")  # fmt: skip
        life = self.start(stop_seconds=0.2)
        self.in_state("ready")
        os.kill(life.keeper.pid, signal.SIGTERM)  # as a system does that is shut down
        self.assertEqual(self.in_state("stopped").exit_code, 137)

    def test_no_line_is_lost_and_nobody_waits(self) -> None:
        life = self.start()
        self.in_state("ready")
        process = KeptProcess(self.home, life, "utf-8")
        process.detach()
        self.addCleanup(process.close)
        self.client().send("many 20000")
        os.kill(life.keeper.pid, signal.SIGSTOP)  # a keeper that is slow
        self.until(lambda: "line 19999" in self.printed())
        os.kill(life.keeper.pid, signal.SIGCONT)
        lines = []
        while (line := process.line(2)) is not None:
            lines.append(line)
        self.assertEqual([one for one in lines if one.startswith("line ")], [f"line {n}" for n in range(20000)])

    def test_rotation_keeps_every_byte(self) -> None:
        output = Output(self.home.folder, "utf-8")
        self.addCleanup(output.close)
        written = []
        for number in range(60):
            text = f"{number} " + "x" * 5000
            written.append(text)
            output.append(f"{text}\n".encode())
            list(output.read())
            output.rotate(most=100_000)
            time.sleep(0.01)
        self.until(lambda: output.rotate(most=1 << 30) or output.start > 0)
        runs = self.home.own / "runs"
        names = sorted(runs.glob("*.log.gz"), key=lambda one: int(one.name.split(".")[-3][5:]))
        archived = b"".join(gzip.decompress(one.read_bytes()) for one in names)
        whole = archived[: output.start] + (self.home.own / "last-run.log").read_bytes()[output.start :]
        self.assertEqual(whole.decode().split("\n")[:-1], written)

    def test_what_cannot_be_started(self) -> None:
        with self.assertRaises(StateError) as caught:
            self.start(command=["./no-such-program"])
        self.assertEqual(caught.exception.code, "cannot-start")
        self.start()
        life = self.in_state("ready")
        self.assertRaises(StateError, adopt, self.home)  # it has a keeper
        self.assertTrue(alive(life.pid, life.process_since))

    def test_strangers_are_not_heard(self) -> None:
        self.start()
        self.in_state("ready")
        mark = self.mark()
        self.assertRaises(StateError, ConsoleClient, self.home, RunMark(mark.pid, 0.0, 0, Secret("another token")))
        told = json.dumps({"token": mark.token.reveal()}).encode()
        for row in (
            *(b'{"send": "stop"}\n', b"{" * 3000 + b"\n", b'{"token": 3}\n', b"\xff\xfe\n", b'["token"]\n', b"\n", b""),
            *(b"x" * 100_000, b'{"token": "\xc3\xa4"}\n'),
            *(told + b"\n" + b"[" * 20_000 + b"\n", told + b"\n" + b"y" * 50_000),
        ):
            with self.subTest(row[:30]), self.socket() as stranger, contextlib.suppress(OSError):
                stranger.settimeout(8)
                stranger.sendall(row)
                stranger.shutdown(socket.SHUT_WR)
                while stranger.recv(4096):
                    pass
        idle = [self.socket() for _ in range(20)]  # more than are let in
        for one in idle:
            one.close()
        self.until(lambda: self.let_in())
        self.assertNotIn("heard stop", self.printed())

    def let_in(self) -> bool:
        """As soon as those that hung up are gone."""
        with contextlib.suppress(StateError):
            self.client().send("hello")
            return True
        return False

    def socket(self) -> socket.socket:
        client = socket.socket(socket.AF_UNIX)
        with Inside(self.home.folder) as inside:
            client.connect(f"/proc/self/fd/{inside.handle('.rhizon')}/console")
        return client

    @unittest.skipUnless(hasattr(os, "geteuid") and os.geteuid() == 0, "being another user needs root")
    def test_another_user_is_not_heard_even_with_the_token(self) -> None:
        self.start()
        self.in_state("ready")
        mark = self.mark()
        for folder in (self.folder, self.home.folder, self.home.own):
            folder.chmod(0o755)
        (self.home.own / "console").chmod(0o666)
        child = os.fork()
        if child == 0:
            os.setuid(4321)
            try:
                ConsoleClient(self.home, mark)
            except StateError:
                os._exit(0)
            os._exit(1)
        self.assertEqual(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), 0)


if __name__ == "__main__":
    unittest.main()

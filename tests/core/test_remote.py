"""What a push does to each file, and what a rented server's host gives."""

import unittest
from collections.abc import Callable
from functools import partial
from typing import Any

from rhizon.core.allocate.memory import budget
from rhizon.core.errors import StateError
from rhizon.core.model.remote import Dictates, PushedFile, Reach, RemoteDefinition
from rhizon.core.names import RelPath
from rhizon.core.remote.ftp_listing import parse_list_line, parse_time
from rhizon.core.remote.limits import heap_within, majors_within, ports_within
from rhizon.core.remote.push_plan import HereFile, ThereFile, plan_push
from rhizon.core.remote.start_file import command_findings, start_file, start_names
from tests.core.kits import sha
from tests.support import TARNHOLT

PATH = RelPath("mods/a.jar")


class Plans(unittest.TestCase):
    def step(self, here: HereFile | None, sent: PushedFile | None, there: ThereFile | None, **more: object) -> str:
        plan = plan_push(
            {PATH: here} if here else {},
            {PATH: sent} if sent else {},
            {PATH: there} if there else {},
            more.pop("dictates", Dictates()),  # type: ignore[arg-type]
            **more,  # type: ignore[arg-type]
        )
        (step,) = plan.steps or (None,)
        return f"{step.action}: {step.reason}" if step is not None else ""

    def test_one_file(self) -> None:
        old, new = HereFile(sha256=sha(1), size=10), HereFile(sha256=sha(2), size=12)
        edited, edited_here = (
            HereFile(sha256=sha(1), size=10, edited=True),
            HereFile(sha256=sha(2), size=9, edited=True),
        )
        sent = PushedFile(sha256=sha(1), size=10, mtime=100)
        lies, changed = ThereFile(size=10, mtime=101), ThereFile(size=11, mtime=500)
        rows: list[tuple[str, HereFile | None, PushedFile | None, ThereFile | None, dict[str, object]]] = [
            ("send: new", old, None, None, {}),
            ("keep: as it was sent", old, sent, lies, {}),
            ("send: changed here", new, sent, lies, {}),
            ("send: changed there", old, sent, changed, {}),
            ("send: lost there", old, sent, None, {}),
            ("send: it is another file", old, None, changed, {}),
            ("keep theirs: changed there", edited, sent, changed, {}),
            ("merge: changed on both sides", edited_here, sent, changed, {}),
            ("send: changed there; yours is wanted", edited_here, sent, changed, {"settings": "mine"}),
            ("keep theirs: changed there", edited_here, sent, changed, {"settings": "theirs"}),
            ("send: changed here", edited_here, sent, lies, {}),
            ("keep: as it was sent", edited_here, PushedFile(sha256=sha(9), size=10, mtime=100, here=sha(2)), lies, {}),
            ("remove: belongs there no more", None, sent, lies, {}),
            ("leave: belongs there no more", None, sent, lies, {"delete": False}),
            ("leave: changed there since it was sent", None, sent, changed, {}),
            ("", None, sent, None, {}),
            ("leave: read-only there", new, sent, lies, {"dictates": Dictates(read_only=(PATH,))}),
        ]
        for expected, here, there_before, there, more in rows:
            with self.subTest(expected, **{str(k): str(v) for k, v in more.items()}):
                self.assertEqual(self.step(here, there_before, there, **more), expected)

    def test_what_a_host_does_not_take(self) -> None:
        big = HereFile(sha256=sha(1), size=40 << 20)
        for dictates, code in (
            (Dictates(forbidden=(".JAR",)), "push-forbidden"),
            (Dictates(largest_mib=16), "push-too-large"),
            (Dictates(quota_mib=16), "push-quota"),
            (Dictates(read_only=(PATH,)), "push-read-only"),
            (Dictates(largest_mib=64, quota_mib=64), None),
        ):
            plan = plan_push({PATH: big}, {}, {}, dictates)
            self.assertEqual([one.code for one in plan.findings], [code] if code else [])
        two = {RelPath("mods/A.jar"): big, PATH: big}
        alike = plan_push(two, {}, {}, Dictates(), capitals=False).findings
        self.assertEqual([(one.code, one.subject) for one in alike], [("push-alike", PATH)])


def remote(**dictates: Any) -> RemoteDefinition:
    reach = Reach(by="folder", folder="/x")
    return RemoteDefinition(format="rhizon-remote/1", name="tight", reach=reach, dictates=Dictates(**dictates))


class Limits(unittest.TestCase):
    def refused(self, call: Callable[[], object]) -> str:
        with self.assertRaises(StateError) as caught:
            call()
        return caught.exception.code

    def test_runtimes(self) -> None:
        self.assertEqual(majors_within(None, (21,)), (21,))
        self.assertEqual(majors_within(remote(), None), None)
        self.assertEqual(majors_within(remote(runtimes=(17, 21)), None), (17, 21))
        self.assertEqual(majors_within(remote(runtimes=(17, 21)), (21,)), (21,))
        self.assertEqual(self.refused(lambda: majors_within(remote(runtimes=(8,)), (21,))), "remote-runtime")

    def test_memory(self) -> None:
        wants = budget(TARNHOLT, (), {}, None)
        beside, least = wants.outside_heap_mib, TARNHOLT.memory.least_mib
        self.assertEqual(heap_within(None, TARNHOLT, wants, 77), 77)
        self.assertIsNone(heap_within(remote(), TARNHOLT, wants, None))
        self.assertEqual(heap_within(remote(memory_mib=9000), TARNHOLT, wants, None), wants.heap_mib)
        tight = remote(memory_mib=beside + least + 8)
        self.assertEqual(heap_within(tight, TARNHOLT, wants, None), least + 8)
        self.assertEqual(heap_within(tight, TARNHOLT, wants, least), least)
        self.assertEqual(self.refused(lambda: heap_within(tight, TARNHOLT, wants, least + 9)), "remote-memory")
        small = remote(memory_mib=beside + least - 1)
        self.assertEqual(self.refused(lambda: heap_within(small, TARNHOLT, wants, None)), "remote-memory")

    def test_ports(self) -> None:
        some = remote(ports=(31005, 31000, 31001, 31002))
        rows: list[tuple[dict[str, int], dict[str, int], dict[str, int] | None]] = [
            ({"game": 1, "query": 1}, {}, {"game": 31000, "query": 31001}),
            ({"game": 1, "line": 3}, {}, {"line": 31000, "game": 31005}),
            ({"line": 3, "game": 1}, {}, {"line": 31000, "game": 31005}),
            ({"game": 1, "query": 1}, {"query": 31000}, {"query": 31000, "game": 31001}),
            ({"game": 1}, {"game": 4000}, None),
            ({"a": 1, "b": 1, "c": 1, "d": 1, "e": 1}, {}, None),
        ]
        for counts, fixed, expected in rows:
            with self.subTest(counts=counts, fixed=fixed):
                if expected is None:
                    self.assertEqual(self.refused(partial(ports_within, some, counts, fixed)), "remote-ports")
                else:
                    self.assertEqual(ports_within(some, counts, fixed), expected)
        self.assertEqual(ports_within(remote(), {"game": 1}, {"game": 7}), {"game": 7})
        set_there = remote(roles={"game": 31010, "chat": 31020}, ports=())
        self.assertEqual(ports_within(set_there, {"game": 2}, {}), {"game": 31010})
        for counts, fixed in (({"game": 1, "query": 1}, {}), ({"game": 1}, {"game": 31011})):
            self.assertEqual(self.refused(partial(ports_within, set_there, counts, fixed)), "remote-ports")
        both = remote(roles={"game": 31002}, ports=(31000, 31001, 31002))
        self.assertEqual(ports_within(both, {"game": 1, "query": 2}, {}), {"game": 31002, "query": 31000})


class StartFiles(unittest.TestCase):
    def test_what_a_host_starts(self) -> None:
        for dictates, names, file in (
            ({}, {"start.sh": "start.sh", "start.cmd": None}, "start.sh"),
            ({"start_file": RelPath("run.sh")}, {"start.sh": "run.sh", "start.cmd": None}, "run.sh"),
            ({"system": "windows"}, {"start.cmd": "start.cmd", "start.sh": None}, "start.cmd"),
            ({"start_command": "java -Xmx1G -jar ./bin/server.jar --quiet"}, None, "bin/server.jar"),
            ({"start_command": "java -cp /opt/x.jar Main"}, None, "start.sh"),
        ):
            with self.subTest(**{one: str(value) for one, value in dictates.items()}):  # type: ignore[attr-defined]
                definition = remote(**dictates)  # type: ignore[arg-type]
                self.assertEqual(start_file(definition), file)
                if names is not None:
                    self.assertEqual(start_names(definition), names)

    def test_a_command_line_of_the_host(self) -> None:
        needed = ("-Xmx900m", "-jar", "server.jar", "--loader", "loader/keelson.jar")
        here = [RelPath("server.jar"), RelPath("start.sh")]
        for command, severities in (
            ("", []),
            ("./start.sh", []),
            ("java -Xmx900m -jar server.jar --loader loader/keelson.jar", []),
            ("java -jar server.jar", ["warning"]),
            ("java -jar other.jar", ["error"]),
        ):
            found = command_findings(remote(start_command=command), needed, here)
            self.assertEqual([one.severity for one in found], severities, command)
        short = command_findings(remote(start_command="java -jar server.jar"), needed, here)
        self.assertIn("java -Xmx900m -jar server.jar --loader loader/keelson.jar", short[0].remedy)


class Listings(unittest.TestCase):
    def test_lines_of_servers(self) -> None:
        rows = (
            ("-rw-r--r--   1 tove crew         1234 Nov 28 20:27 a b.txt", ("a b.txt", "file", 1234)),
            ("drwxr-xr-x  12 tove crew         4096 Nov 28  2025 mods", ("mods", "folder", 4096)),
            ("-rw-r--r-- 1 0 0 1234 févr. 28 20:27 été", ("été", "file", 1234)),
            ("-rw-r--r-- 1 tove crew 7 28. Nov 20:27 1999 in rain", ("1999 in rain", "file", 7)),
            ("-rw-r--r--  1 tove  crew  99 2026-11-28 20:27 iso", ("iso", "file", 99)),
            ("-rw-rw-r--+ 1 tove crew 5 11月 28 20:27 漁.txt", ("漁.txt", "file", 5)),
            ("-rw-r--r-- 1 tove 1234 Nov 28 20:27 no group", ("no group", "file", 1234)),
            ("lrwxrwxrwx 1 tove crew 9 Nov 28 20:27 link -> there", ("link -> there", "other", 9)),
            ("-rw-r--r-- 1 tove crew 3 Nov 28 20:27  led by a space", (" led by a space", "file", 3)),
            ("11-28-26  08:27PM       <DIR>          mods", ("mods", "folder", 0)),
            ("11-28-2026  20:27            41744 a b.jar", ("a b.jar", "file", 41744)),
            ("total 12", None),
            ("", None),
            ("-rw-r--r--", None),
        )
        for line, expected in rows:
            with self.subTest(line):
                found = parse_list_line(line)
                self.assertEqual(found[:3] if found is not None else None, expected)

    def test_times(self) -> None:
        for text, seconds in (("20261128202700", 1795897620), ("20261128202700.123", 1795897620), ("20261399000000", 0),
                              ("now", 0), ("", 0)):  # fmt: skip
            self.assertEqual(parse_time(text), seconds)


if __name__ == "__main__":
    unittest.main()

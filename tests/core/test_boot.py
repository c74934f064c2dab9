"""Judging starts: the lines are what servers and JVMs really print."""

import unittest

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.boot import BootJudge
from rhizon.core.launch import Launch, start_command
from rhizon.core.model.game import FailurePattern
from rhizon.core.model.instance import RuntimeChoice
from rhizon.core.runtimes import FAMILIES
from rhizon.core.start_scripts import start_scripts
from tests.support import TARNHOLT

BEGIN = "+000.208 keelson | bringing in mistpanel 0.2.0 (mod)"
TOO_NEW = (
    "java.lang.UnsupportedClassVersionError: otterden/Otterden has been compiled by a more recent version of the Java "
    "Runtime (class file version 65.0), this version of the Java Runtime only recognizes class file versions up to 61"
)
# the last lines, exit code -> code, culprit, words of the verdict
FAILURES = (
    (
        (BEGIN, 'Exception in thread "main" java.lang.NoClassDefFoundError: tarnholt/client/Screen'),
        1,
        "client-only",
        "mistpanel",
    ),
    ((BEGIN, "java.lang.ClassNotFoundException: tarnholt.client.Brush"), 1, "client-only", "mistpanel"),
    ((BEGIN, "java.lang.NoClassDefFoundError: tarnholt/clients/Screen"), 1, "class-missing", "mistpanel"),
    ((BEGIN, "java.lang.NoClassDefFoundError: DepMissing"), 1, "class-missing", "mistpanel"),
    ((BEGIN, TOO_NEW), 1, "class-too-new", "mistpanel"),
    ((BEGIN, 'Exception in thread "main" java.awt.HeadlessException: '), 1, "headless", "mistpanel"),
    (("Terminating due to java.lang.OutOfMemoryError: Java heap space",), 3, "out-of-memory", None),
    (('Exception in thread "Server thread" java.lang.OutOfMemoryError: Java heap space',), 1, "out-of-memory", None),
    (('Exception in thread "main" java.net.BindException: Address already in use',), 1, "port-in-use", None),
    (("Invalid maximum heap size: -Xmx1x",), 1, "heap-refused", None),
    (("Error: Unable to access jarfile tarnholt-server.jar",), 1, "archive-missing", None),
    (("Error: Invalid or corrupt jarfile bad.jar",), 1, "archive-damaged", None),
    (("+000.1 harbour | the licence is not accepted: read licence/terms.txt",), 21, "licence-not-accepted", None),
    (
        ("+000.1 keelson | cannot load: eelmarket 1.6.0 needs tallybook >=1, which is not here",),
        22,
        "content-refused",
        "eelmarket",
    ),
    (("+000.1 harbour | marsh.properties: net.game = x is not a whole number",), 23, "bad-setting", None),
    ((BEGIN, "something else"), 9, "start-ended", "mistpanel"),
    ((BEGIN,), None, "start-timeout", "mistpanel"),
    ((), 1, "start-ended", None),
)


CAUGHT = (BEGIN, "java.lang.NoClassDefFoundError: tarnholt/client/Screen", "\tat mistpanel.Mistpanel.begin(M.java:7)")
DONE = "+000.210 keelson | brought in mistpanel 0.2.0"
OTHER = "+000.211 keelson | bringing in reedlight 2.1.0 (mod)"
BOOM = (
    'Exception in thread "main" java.lang.IllegalStateException: no ground',
    "\tat keelson.Boot.main(Boot.java:40)",
    "Caused by: java.lang.ArithmeticException: / by zero",
    "\tat reedlight.Lamps.count(Lamps.java:12)",
    "\tat reedlight.Lamps.begin(Lamps.java:3)",
    "\t... 2 more",
)
# lines, exit code -> code, culprit, the line that is quoted, the first class of the frames
WEIGHED = (
    ((*CAUGHT, DONE, OTHER, *BOOM), 1, "start-ended", "reedlight", "java.lang.ArithmeticException: / by zero", "reedlight.Lamps"),
    ((*CAUGHT, OTHER, "java.net.BindException: Address already in use"), 1, "port-in-use", "reedlight", "java.net.Bind", None),
    ((BEGIN, "java.net.BindException: Cannot assign requested address"), 1, "address-absent", "mistpanel", "java.net", None),
    (("java.net.SocketException: Permission denied",), 1, "port-privileged", None, "java.net", None),
    (("write: No space left on device",), 1, "disk-full", None, "write", None),
    (("marsh.log: Too many open files",), 1, "open-files", None, "marsh.log", None),
    (("java.lang.OutOfMemoryError: Java heap space", "java.lang.NullPointerException: chunk"), 1, "out-of-memory", None, "java.lang.Out", None),
    ((OTHER, *BOOM), 1, "start-ended", "reedlight", "java.lang.ArithmeticException", "reedlight.Lamps"),
    ((BEGIN,), 137, "start-killed", "mistpanel", BEGIN, None),
    ((BEGIN,), -11, "start-crashed", "mistpanel", BEGIN, None),
)  # fmt: skip


class Verdicts(unittest.TestCase):
    def test_what_decides_and_what_was_harmless(self) -> None:
        for lines, exit_code, code, culprit, line, first in WEIGHED:
            with self.subTest(lines=lines):
                judge = BootJudge(TARNHOLT)
                for one in lines:
                    judge.feed(one)
                verdict = judge.verdict(exit_code, 12.0)
                self.assertEqual((verdict.code, verdict.culprit), (code, culprit))
                self.assertTrue(verdict.line.startswith(line), verdict.line)
                self.assertEqual(next(iter(verdict.frames), None), first)

    def test_rows(self) -> None:
        for lines, exit_code, code, culprit in FAILURES:
            with self.subTest(lines=lines):
                judge = BootJudge(TARNHOLT)
                for line in (*lines, "\tat java.base/java.lang.Class.forName0(Native Method)"):
                    judge.feed(line)
                verdict = judge.verdict(exit_code, 12.0)
                self.assertFalse(judge.ready)
                self.assertEqual((verdict.code, verdict.culprit), (code, culprit))
                self.assertTrue(verdict.what and verdict.hint)
                self.assertNotRegex(verdict.what + verdict.hint.replace("{server}", "marsh"), r"\{\w+\}")

    def test_events_levels_and_what_is_harmless(self) -> None:
        log = msgspec.structs.replace(
            TARNHOLT.log,
            event=r"^\d\d:\d\d ",
            level=r"^\d\d:\d\d \[(?P<level>\w+)\]",
            levels={"GRAVE": "error", "ODD": "warning"},
            harmless=(r"no songbird",),
            failures=(
                FailurePattern(code="gate-stuck", pattern=r"gate\n +hinge: (?P<why>.*)", what="stuck: {why}", hint="-"),
            ),
        )
        game = msgspec.structs.replace(TARNHOLT, log=log)
        for lines, code, line in (
            (("09:00 [GRAVE] the reeds burn", "09:01 [ODD] smoke"), "start-ended", "09:00 [GRAVE] the reeds burn"),
            (("09:00 [GRAVE] gate", "   hinge: rust", "09:01 so"), "gate-stuck", "09:00 [GRAVE] gate hinge: rust"),
            (("09:00 gate", "   hinge: rust"), "gate-stuck", "09:00 gate hinge: rust"),
            (("09:00 x", "java.lang.IllegalStateException: no songbird", "09:01 so"), "start-ended", "09:01 so"),
            (("09:00 [ODD] Address already in use", "09:01 [GRAVE] no ground"), "start-ended", "09:01 [GRAVE] no"),
            (("09:00 Address already in use", "09:01 [GRAVE] no ground"), "port-in-use", "09:00 Address"),
            (("09:00 [GRAVE] no ground:", "a.b.CalmException: mud", "\tat a.B.c(B.java:1)"), "start-ended", "a.b.Calm"),
        ):
            with self.subTest(lines=lines):
                judge = BootJudge(game)
                for one in lines:
                    judge.feed(one)
                verdict = judge.verdict(1, 1.0)
                self.assertEqual((verdict.code, verdict.line[: len(line)]), (code, line))
                again = BootJudge(game, judge.got_over)  # as if that had been a start that went well
                for one in (*(text.replace("09:0", "11:3") for text in lines), "11:59 [GRAVE] new"):
                    again.feed(one)
                self.assertEqual(again.verdict(1, 1.0).line, "11:59 [GRAVE] new")

    def test_two_sources_do_not_mix(self) -> None:
        judge = BootJudge(TARNHOLT)
        for line, source in (
            (BOOM[0], ""),
            ("\tat other.Thing.x(T.java:1)", "a.log"),
            *((one, "") for one in BOOM[1:]),
        ):
            judge.feed(line, source)
        self.assertEqual(judge.verdict(1, 1.0).frames[0], "reedlight.Lamps")

    def test_a_good_start(self) -> None:
        judge = BootJudge(TARNHOLT)
        events = [
            judge.feed(line)
            for line in (
                "+000.1 keelson | bringing in reedlight 2.1.0 (mod)",
                "+000.2 keelson | brought in reedlight 2.1.0",
                "+000.3 marsh | ground 50 %",
                "+000.4 harbour | gates open on port 21640 with 1 pieces after 0.4 s",
                "java.lang.NoClassDefFoundError: said/later",
                "+001.0 harbour | gates closed",
            )
        ]
        self.assertEqual(
            [one.kind if one else None for one in events], ["content", None, "progress", "ready", None, "closed"]
        )
        self.assertTrue(judge.ready and judge.closed)
        self.assertEqual(judge.started, ["reedlight"])
        self.assertIsNone(judge.failure)

    @given(st.lists(st.text(max_size=80), max_size=8))
    def test_any_lines(self, lines: list[str]) -> None:
        judge = BootJudge(TARNHOLT)
        for line in lines:
            judge.feed(line)
        self.assertFalse(set(judge.verdict(1, 1.0).line) & set("\x1b\x07\n"))


class Java(unittest.TestCase):
    def test_probes(self) -> None:
        java = FAMILIES["java"]
        new = (
            "Property settings:\n    java.specification.version = 21\n    java.vendor = V\n    java.version = 21.0.8\n"
        )
        old = new.replace("= 21\n", "= 1.8\n").replace("21.0.8", "1.8.0_412")
        noise = "Picked up JAVA_TOOL_OPTIONS: -Xx\n"
        for text, major, version in ((new, 21, "21.0.8"), (noise + new, 21, "21.0.8"), (old, 8, "1.8.0_412")):
            report = java.read_probe(text)
            assert report is not None
            self.assertEqual((report.major, report.version), (major, version))
        for text in ("", "Python 3.11", "    java.specification.version = next\n"):
            self.assertIsNone(java.read_probe(text))

    def test_start_lines(self) -> None:
        runtime = RuntimeChoice(family="Java", major=17, version="17.0.15", program="/opt/a b/java")
        command = start_command(TARNHOLT, Launch("keelson", runtime, 256, path_separator=":"))
        self.assertEqual(command[0], "/opt/a b/java")
        self.assertEqual(command[1:3], ("-Xms64m", "-Xmx256m"))
        self.assertEqual(command[-2:], ("loader/keelson.jar:tarnholt-server.jar", "keelson.Boot"))
        bare = start_command(TARNHOLT, Launch(None, runtime, 256, path_separator=":"))
        self.assertEqual(bare[-2:], ("-jar", "tarnholt-server.jar"))
        scripts = start_scripts(TARNHOLT, "keelson", runtime, 256)
        self.assertIn(b"runtime=${RHIZON_RUNTIME:-'/opt/a b/java'}", scripts["start.sh"])  # type: ignore[index]
        windows = scripts["start.cmd"]  # type: ignore[index]
        self.assertIn(b'"loader/keelson.jar;tarnholt-server.jar"', windows)
        self.assertEqual(windows.count(b"\n"), windows.count(b"\r\n"))

"""How a server is started: arguments for each runtime, and scripts that need no Rhizon."""

import shlex
import subprocess
import unittest

from rhizon.core.launch import START_SCRIPTS, fill, start_command, start_scripts
from rhizon.core.model.instance import RuntimeChoice
from rhizon.core.runtimes import FAMILIES
from tests.support import TARNHOLT

JAVA = FAMILIES["java"]


def runtime(major: int, program: str = "/opt/java dir/bin/java") -> RuntimeChoice:
    return RuntimeChoice(family="Java", major=major, version=f"{major}.0.1", program=program)


class Commands(unittest.TestCase):
    def test_words_and_lists_are_filled_in(self) -> None:
        rows: tuple[tuple[list[str], tuple[str, ...]], ...] = (
            (["{a}", "x{a}y", "{list}"], ("1", "x1y", "p", "q")),
            (["{unknown}", "{list}x"], ("{unknown}", "{list}x")),
            ([], ()),
        )
        for command, expected in rows:
            with self.subTest(command=command):
                self.assertEqual(fill(command, {"a": "1"}, {"list": ["p", "q"]}), expected)

    def test_flags_for_every_major(self) -> None:
        # major, heap -> flags that must be there, flags that must not
        rows = (
            (8, 512, ["-Xms128m", "-Xmx512m", "-XX:+ExitOnOutOfMemoryError", "-Dfile.encoding=UTF-8"], ["-Xlog"]),
            (17, 96, ["-Xms24m", "-Xmx96m", "-Dfile.encoding=UTF-8"], []),
            (21, 40, ["-Xms16m", "-Xmx40m"], ["-Dfile.encoding=UTF-8"]),
            (25, 8192, ["-Xms2048m", "-Xmx8192m"], ["-Dfile.encoding=UTF-8"]),
        )
        for major, heap, wanted, unwanted in rows:
            with self.subTest(major=major):
                flags = JAVA.flags(major, heap)
                self.assertLessEqual(set(wanted), set(flags))
                self.assertFalse([one for one in flags for word in unwanted if one.startswith(word)])
                self.assertTrue(all(why for _, why in JAVA.explained(major, heap)))
                measured = start_command(TARNHOLT, "keelson", runtime(major), heap, path_separator=":", measured="m")
                self.assertEqual(any("-Xlog:gc:file=m/" in one for one in measured), major >= 9)
        self.assertEqual(FAMILIES["mono"].flags(6, 512), ())

    def test_with_and_without_a_loader(self) -> None:
        bare = start_command(TARNHOLT, None, runtime(17), 96, path_separator=":")
        self.assertEqual((bare[0], bare[-2:]), ("/opt/java dir/bin/java", ("-jar", "tarnholt-server.jar")))
        loaded = start_command(TARNHOLT, "keelson", runtime(17), 96, path_separator=";")
        self.assertEqual(loaded[-2:], ("loader/keelson.jar;tarnholt-server.jar", "keelson.Boot"))

    def test_scripts_are_valid_and_name_the_runtime(self) -> None:
        hostile = runtime(17, "/opt/$(touch x)/'java' %PATH%")
        made = start_scripts(TARNHOLT, "keelson", hostile, 96)
        self.assertEqual(tuple(made), START_SCRIPTS)
        text = made[START_SCRIPTS[0]].decode()
        self.assertIn(shlex.quote(hostile.program), text)
        checked = subprocess.run(["sh", "-n"], input=text, text=True, capture_output=True)
        self.assertEqual((checked.returncode, checked.stderr), (0, ""))
        windows = made[START_SCRIPTS[1]].decode()
        self.assertIn("%%PATH%%", windows)
        self.assertNotIn("\n", windows.replace("\r\n", ""))
        self.assertNotIn("-Xlog", text + windows)  # the folder for logs need not be where a copy of the server is

"""The Python API as docs/api.md shows it."""

import re
import subprocess
import sys
import unittest
from pathlib import Path

import rhizon
from tests.support import NO_JAVA, Case, java17

GUIDE = (Path(__file__).parents[2] / "docs" / "api.md").read_text("utf-8")


class Names(unittest.TestCase):
    def test_every_name_is_there_and_in_the_guide(self) -> None:
        for name in rhizon.__all__:
            self.assertIsNotNone(getattr(rhizon, name))
            self.assertIn(name, dir(rhizon))
            if name != "__version__":
                self.assertRegex(GUIDE, rf"\b{name}\b")
        with self.assertRaises(AttributeError):
            rhizon.nothing  # noqa: B018


@unittest.skipUnless(java17(), NO_JAVA)
class Script(Case):
    def test_the_worked_script(self) -> None:
        script = self.write("script.py", re.findall(r"```python\n(.*?)```", GUIDE, re.DOTALL)[0])
        done = subprocess.run(
            [sys.executable, script],
            cwd=self.folder, env=self.environment(), capture_output=True, text=True, timeout=240,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertRegex(done.stdout, r"12 releases on Tarnholt 4\.2, keelson 3\.1\.0\n")
        self.assertRegex(done.stdout, r"harbour-lights ready to run \{'game': \d+")
        self.assertRegex(done.stdout, r"ready after [\d.]+ s; exit code 0\n\Z")

"""Names from outside: paths, text for the terminal, near names."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.names import UnsafeNameError, fold, printable, safe_path, suggestions

UNSAFE = (
    "",
    "/etc/x",
    "..",
    "a/../b",
    "a//b",
    "./a",
    "a/.",
    "a/",
    "C:/x",
    "a\\b",
    "a\x00b",
    "a\nb",
    "a\x1b[31m",
    "con",
    "mods/NUL.txt",
    "lpt1 .log",
    "a/b.",
    "a ",
    " a",
    "what?",
    "a*",
    "\u202egpj.exe",
    "x" * 251,
    "ä" * 126,  # 252 bytes
    "/".join(["abcdefghi"] * 70),
    "\ud800",
)
SAFE = ("a", "mods/reedlight-2.1.0.jar", ".rhizon/lock.json", "config/ä ö.txt", "a/b/c/d", "console.txt")
LONG = ("x" * 250, "ä" * 125)
PLAIN = (
    ("clean text", "clean text"),
    ("a\x1b[31mred\x1b[0m", "a\ufffdred\ufffd"),
    ("title\x1b]0;owned\x07end", "title\ufffdend"),
    ("back\x08space", "back\ufffdspace"),
    ("two\r\nlines\tand", "two lines and"),
    ("\u202eevil", "\ufffdevil"),
    ("c1\x9b31m", "c1\ufffd31m"),
    ("ok ✓ ä", "ok ✓ ä"),
)


class Paths(unittest.TestCase):
    def test_unsafe(self) -> None:
        for text in UNSAFE:
            with self.subTest(text=text), self.assertRaises(UnsafeNameError):
                safe_path(text)

    def test_safe(self) -> None:
        for text in (*SAFE, *LONG):
            with self.subTest(text=text):
                self.assertEqual(safe_path(text), text)

    @given(st.text(max_size=60))
    def test_what_is_let_through_stays_below(self, text: str) -> None:
        try:
            path = safe_path(text)
        except UnsafeNameError:
            return
        self.assertFalse(path.startswith("/") or "\\" in path or ":" in path)
        self.assertTrue(all(part not in ("", ".", "..") for part in path.split("/")))

    def test_case_and_accents_fold(self) -> None:
        self.assertEqual(fold("Mods/Ä.jar"), fold("mods/a\u0308.jar".upper()))


class Terminal(unittest.TestCase):
    def test_rows(self) -> None:
        for given_text, shown in PLAIN:
            with self.subTest(text=given_text):
                self.assertEqual(printable(given_text), shown)

    @given(st.text(max_size=300))
    def test_nothing_steers_a_terminal(self, text: str) -> None:
        shown = printable(text, 100)
        self.assertLessEqual(len(shown), 100)
        self.assertFalse([c for c in shown if ord(c) < 32 or 127 <= ord(c) < 160 or c in "\u202a\u202e\u2066"])
        self.assertEqual(printable(shown, 100), shown)


class Near(unittest.TestCase):
    def test_rows(self) -> None:
        known = ("reedlight", "sluicegate", "peat-fires", "Peatfires")
        for typed, first in (("reedligth", "reedlight"), ("PEATFIRES", "Peatfires"), ("gate", "sluicegate")):
            with self.subTest(typed=typed):
                self.assertEqual(suggestions(typed, known)[0], first)
        self.assertEqual(suggestions("zzz", known), [])

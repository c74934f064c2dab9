"""Everything that is printed, with texts that people did not foresee, at widths that they have."""

import io
import json
import re
import unittest
from collections import Counter
from typing import Any
from unittest import mock

from rich.cells import cell_len
from rich.console import Console

from rhizon.cli import output
from rhizon.cli.command import error_object
from rhizon.core.errors import NoSolutionError, RhizonError
from rhizon.core.finding import Finding
from rhizon.core.names import printable

TEXTS = (
    "",
    "reedlight",
    "a" * 300,
    "many words " * 40,
    "灯台の港" * 30,
    "e\u0301\u0308" * 50,
    "[red]not markup[/red] :smile:",
    "\x1b[2J\x1b]0;title\x07\x00\x08\rerror: all is well",
    "\u202egnp.exe\u2066\u200f",
    "one\nerror: two\u2028three\u0085four",
    "\ud800\U0010ffff\ue000",
    "🏴\u200d🦀" * 20,
)
FORBIDDEN = re.compile("[\x00-\x09\x0b-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff]")
WIDTHS = (40, 80, 200)


def folded(text: str) -> str:
    """What is left when line breaks, padding and rules do not count."""
    return re.sub(r"[\s─]+", "", text)


def table(to: Console, rows: list[tuple[str, ...]], **options: Any) -> None:
    output.show_table(to, ("name", "size", "why"), rows, right=("size",), **options)


class Renderers(unittest.TestCase):
    def shown(self, width: int, *, terminal: bool, call: "object") -> str:
        stream = io.StringIO()
        options: dict[str, object] = {"color_system": None, "markup": False, "highlight": False, "emoji": False}
        to = Console(file=stream, width=width, force_terminal=terminal, **options)  # type: ignore[arg-type]
        call(to)  # type: ignore[operator]
        printed = stream.getvalue()
        self.assertIsNone(FORBIDDEN.search(printed), repr(printed))
        return printed

    def test_every_text_at_every_width(self) -> None:
        for text in TEXTS:
            finding = Finding(code="odd", severity="warning", subject=text, what=text, remedy=text)
            rows = [(text, "12", text), ("second", "3", "")]
            calls = (
                (lambda to, text=text: output.verdict(to, text), 1, True),
                (lambda to, text=text: output.say(to, text), 1, True),
                (lambda to, one=finding: output.show_findings(to, [one]), 1, True),
                (lambda to, text=text: output.show_pairs(to, [("name", text), ("second", "kept")]), 1, True),
                (lambda to, rows=rows: table(to, rows, prose=("name", "why")), 2, True),
                (lambda to, rows=rows: table(to, rows, wide=True), 2, False),
                (lambda to, text=text: output.next_steps(to, [output.Step(("rhizon", "run", text), text)]), 1, False),
            )
            for number, (call, times, folds) in enumerate(calls):
                for width in WIDTHS:
                    for terminal in (True, False):
                        with self.subTest(text=text, call=number, width=width, terminal=terminal):
                            printed = self.shown(width, terminal=terminal, call=call)
                            wanted = Counter(folded(printable(text)) * times)  # cells side by side are folded each
                            self.assertLessEqual(wanted, Counter(folded(printed)))
                            if terminal and folds:
                                self.assertLessEqual(max(map(cell_len, printed.splitlines()), default=0), width)
                            if number == 5 or (not terminal and number == 4):
                                self.assertEqual(len(printed.splitlines()), 4)

    def test_further_lines_of_a_finding_stand_further_in(self) -> None:
        finding = Finding(code="odd", severity="error", subject="reedlight", what="many words " * 9, remedy="try " * 40)
        printed = self.shown(40, terminal=True, call=lambda to: output.show_findings(to, [finding]))
        first, *rest = printed.splitlines()
        self.assertTrue(first.startswith("error reedlight: many"), printed)
        arrow = next(number for number, line in enumerate(rest) if line.startswith("  → "))
        self.assertTrue(all(line.startswith(("  many", "  words")) for line in rest[:arrow]), printed)
        self.assertTrue(all(line.startswith("    try") for line in rest[arrow + 1 :]), printed)

    def test_a_row_is_one_line_that_fits_both_ends_left(self) -> None:
        path = "/srv/games/harbour-lights/tarnholt/thursdays-only"
        for width in WIDTHS:
            for text in (path, *TEXTS):
                rows = [(text, "12", text), ("second", "3", "")]
                lines = self.shown(width, terminal=True, call=lambda to, rows=rows: table(to, rows)).splitlines()
                self.assertEqual(len(lines), 4, lines)
                self.assertLessEqual(max(map(cell_len, lines)), width)
                self.assertTrue(all(line == line.rstrip() for line in lines), lines)
        cells = self.shown(40, terminal=True, call=lambda to: table(to, [(path, "1", "")])).splitlines()[2]
        self.assertRegex(cells, r"^/srv/.*….*thursdays-only +1$")

    def test_columns_of_a_table_begin_at_one_place(self) -> None:
        rows = [("灯台", "1", "x"), ("a longer name", "22", "y"), ("🦀", "333", "z")]
        printed = self.shown(200, terminal=True, call=lambda to: output.show_table(to, ("name", "size", "why"), rows))
        ends = {cell_len(line[: line.rindex(line.strip()[-1])]) for line in printed.splitlines()[2:]}
        self.assertEqual(len(ends), 1, printed)

    def test_errors_for_people_and_for_programs(self) -> None:
        for text in TEXTS:
            error = RhizonError("odd", f"went wrong: {text}", hint=f"try {text}", details=[text])
            no_solution = NoSolutionError("odd", f"none: {text}", hint="Take one out.", details=[text, text])
            no_solution.core = (text,)
            for one in (error, no_solution):
                for as_json in (False, True):
                    with self.subTest(text=text, as_json=as_json):
                        raw = io.BytesIO()
                        stream = io.TextIOWrapper(raw, encoding="utf-8", write_through=True)
                        with mock.patch("sys.stdout", stream), mock.patch("sys.stderr", stream):
                            if as_json:
                                output.write_json(error_object(one))
                            else:
                                output.show_error(one)
                        printed = raw.getvalue().decode()
                        if as_json:
                            self.assertEqual(json.loads(printed)["error"]["message"], printable(one.message))
                        else:
                            self.assertIsNone(FORBIDDEN.search(printed), repr(printed))
                            self.assertEqual(len(printed.splitlines()), 2 + len(one.details))

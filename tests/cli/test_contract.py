"""What every command promises: options, examples, names of servers, several of them, JSON, events, completion."""

import json
import re
import shlex
import subprocess
import unittest
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

import click

from rhizon.app.guides import find_guide, list_guides
from rhizon.app.results import RESULTS, SEVERAL
from rhizon.cli.command import RhizonCommand, RhizonGroup, worst
from rhizon.cli.commands import COMMANDS, FIRST_EVENING
from rhizon.cli.main import root
from rhizon.cli.servers import Server, ServerParam
from tests.app.fakes import AppCase
from tests.support import PROGRAM, not_fast

DOCS = Path(__file__).parents[2] / "docs"
VOCABULARY = (DOCS / "commands.md").read_text("utf-8")
READERS = {  # commands that change nothing
    "address", "boots", "catalog serve", "check", "completion", "console", "demo", "dev", "explain", "game check",
    "game list", "game show", "game try", "help", "inspect", "isolate", "list", "log", "machines each",
    "machines status", "match", "metrics", "players",
    "reach", "remote check", "report", "restart", "run", "runtimes", "service show", "settings", "start", "status",
    "stop", "store status", "wait",
}  # fmt: skip


def commands() -> Iterator[tuple[str, RhizonCommand]]:
    for name in COMMANDS:
        found = root.get_command(click.Context(root), name)
        if isinstance(found, RhizonGroup):
            for below, command in found.commands.items():
                assert isinstance(command, RhizonCommand)
                yield f"{name} {below}", command
        else:
            assert isinstance(found, RhizonCommand), name
            yield name, found


class Commands(unittest.TestCase):
    def test_options_examples_and_schemas_of_each(self) -> None:
        seen = dict(commands())
        self.assertEqual(set(seen), set(RESULTS))
        for name, command in seen.items():
            with self.subTest(name):
                options = {text for one in command.params if isinstance(one, click.Option) for text in one.opts}
                self.assertLessEqual({"--json", "--events", "-q", "--quiet", "-v", "--verbose", "--debug"}, options)
                self.assertEqual("--dry-run" in options, name not in READERS)
                self.assertEqual("--all" in options, name in SEVERAL or name == "demo")
                self.assertTrue(command.examples)
                for line, meaning in command.examples:
                    words = shlex.split(line.split(" >")[0])
                    self.assertEqual(words[: 1 + len(name.split())], ["rhizon", *name.split()])
                    self.assertTrue(meaning)
                    with mock.patch.object(ServerParam, "convert", lambda _self, value, *_: Server(Path(value), value)):
                        command.make_context(name, words[1 + len(name.split()) :])

    def test_one_word_has_one_meaning(self) -> None:
        """Every option is in the vocabulary, or is of one command alone."""
        users: dict[str, set[str]] = {}
        for name, command in commands():
            for one in command.params:
                for text in one.opts if isinstance(one, click.Option) else ():
                    users.setdefault(text, set()).add(name)
        several = {text for text, names in users.items() if len(names) > 1}
        self.assertGreater(len(several), 20)
        for text in sorted(several):
            with self.subTest(text):
                self.assertRegex(VOCABULARY, rf"`(-\w`, `)?(-\w, )?{text}\b|, {text}[ `]|`{text}`")

    def test_help_fits_80_columns(self) -> None:
        for name, command in [*commands(), ("", root)]:
            lines = command.get_help(click.Context(command, info_name=name, terminal_width=80)).splitlines()
            with self.subTest(name):
                self.assertLessEqual(max(map(len, lines)), 100 if name else 80)

    def test_the_worst_exit_code(self) -> None:
        for codes, code in (((0, 0), 0), ((0, 1), 1), ((1, 6, 3), 6), ((7, 4, 5), 4), ((2, 4), 2), ((), 0)):
            self.assertEqual(worst(codes), code)

    def test_guides_and_codes(self) -> None:
        self.assertGreaterEqual(len(list_guides()), 11)
        shipped = (Path(__file__).parents[2] / "pyproject.toml").read_text("utf-8")
        for one in list_guides():
            self.assertIn(f'"docs/{one.name}.md"', shipped)
        self.assertIn("severity: error", find_guide("port-clash").text)
        self.assertIn("only one of them can start", find_guide("port-clash").text)


@not_fast
class Servers(AppCase):
    """The built program on two servers."""

    def setUp(self) -> None:
        super().setUp()
        self.server(
            "a-folder-with-a-long-name-for-thursday-evenings", "marsh", note="Thursdays, with all the neighbours"
        )
        self.server("moor", "fen")
        for name in self.folder.glob("*/marsh.properties"):
            name.chmod(0o600)

    def test_a_name_a_folder_and_neither(self) -> None:
        rows = (("marsh", 0, "marsh"), ("fen", 0, "fen"), ("moor", 0, "fen"), ("./moor", 0, "fen"), (".", 1, None))
        for word, code, name in rows:
            with self.subTest(word):
                done = self.rhizon("check", word, "--json")
                self.assertEqual((done.code, done.result and done.result["name"]), (code, name))
        self.assertIn("Did you mean marsh?", self.rhizon("check", "marhs").err)
        self.assertEqual(self.rhizon("check").code, 2)

    def test_several_of_which_one_is_not_well(self) -> None:
        (self.folder / "moor/mods/reedlight.jar").unlink()
        done = self.rhizon("check", "--all", "--json")
        servers = {one["server"]: (one["ok"], one["exit_code"]) for one in done.json["result"]["servers"]}
        self.assertEqual((done.code, servers), (1, {"fen": (False, 1), "marsh": (True, 0)}))
        shown = self.rhizon("check", "marsh", "fen", "nowhere/at/all")
        self.assertEqual(shown.code, 1)
        self.assertIn("error: there is no server in", shown.err)
        table = [line.split()[0] for line in shown.out.splitlines()[-3:]]
        self.assertEqual(table, ["marsh", "fen", "nowhere/at/all"])
        self.assertEqual(self.rhizon("repair", "--all", "--dry-run").code, 1)
        self.assertEqual(self.rhizon("repair", "--all").code, 0)
        self.assertTrue((self.folder / "moor/mods/reedlight.jar").is_file())
        stopped = self.rhizon("stop", "--all", "--quiet")
        self.assertEqual((stopped.code, stopped.out), (0, ""))
        self.assertEqual(self.rhizon("check", "--all", "marsh").code, 2)

    def test_a_server_is_one_line_at_80_columns(self) -> None:
        with mock.patch.dict("os.environ", {}):
            shown = subprocess.run(
                [*PROGRAM, "list"], env={**self.environment(), "COLUMNS": "80"}, capture_output=True, text=True
            ).stdout.splitlines()
        self.assertEqual(len(shown), 5)
        self.assertLessEqual(max(map(len, shown)), 80)
        self.assertFalse([line for line in shown if line != line.rstrip()])
        self.assertIn("…", shown[3])
        whole = self.rhizon("list", "--wide").out
        self.assertIn(str(self.folder / "a-folder-with-a-long-name-for-thursday-evenings"), whole)

    def test_what_a_dry_run_writes(self) -> None:
        before = {path: path.stat().st_mtime_ns for path in self.folder.rglob("*")}
        rows = (
            ("lock", "marsh", "-o", "out.lock.json"),
            ("bom", "marsh", "-o", "out.cdx.json"),
            ("game", "new", "drift-mill"),
            ("backup", "marsh", "--keep", "1d"),
            ("store", "prune", "--since", "0m"),
            ("store", "verify"),
            ("rename", "marsh", "reeds"),
            ("set", "marsh", "pvp=yes"),
            ("ports", "marsh", "--move", "--port", "game=23456"),
            ("host", "--rebuild", "."),
            ("forget", "marsh"),
            ("repair", "marsh"),
        )
        for words in rows:
            with self.subTest(words):
                done = self.rhizon(*words, "--dry-run")
                self.assertEqual(done.code, 0, done.err)
                self.assertIn("Nothing was changed.", done.out)
        after = {path: path.stat().st_mtime_ns for path in self.folder.rglob("*")}
        caches = {one for one in after.keys() ^ before.keys() if "state" in one.relative_to(self.folder).parts}
        self.assertEqual(after.keys() ^ before.keys(), caches)
        self.assertEqual(
            {p for p in before if before[p] != after.get(p) and "state" not in p.parts and p.is_file()}, set()
        )

    def test_events_are_json_lines(self) -> None:
        (self.folder / "moor/mods/reedlight.jar").unlink()
        done = self.rhizon("repair", "fen", "--events", "--json")
        events = [json.loads(line) for line in done.err.splitlines()]
        self.assertLessEqual({"step", "done"}, {one["event"] for one in events})
        self.assertTrue(all(one["text"] for one in events))
        self.assertEqual((done.code, done.result["fetched"]), (0, 0))

    def complete(self, line: str) -> list[str]:
        words = shlex.split(line) + ([""] if line.endswith(" ") else [])
        environment = {"_RHIZON_COMPLETE": "bash_complete", "COMP_WORDS": line, "COMP_CWORD": str(len(words) - 1)}
        # the shell's own way in: the program answers by itself when it sees the variable
        code = "from rhizon.cli.main import root; root.main(prog_name='rhizon')"
        done = subprocess.run(
            [PROGRAM[0], "-c", code],
            cwd=self.folder, env={**self.environment(), **environment}, capture_output=True, text=True, timeout=60,
        )  # fmt: skip
        self.assertEqual(done.stderr, "")
        return [one.partition(",")[2] for one in done.stdout.splitlines()]

    def test_the_shell_completes_names_settings_roles_and_games(self) -> None:
        rows = (
            ("rhizon check ma", "marsh"),
            ("rhizon set fen max_", "max_players="),
            ("rhizon ports fen --move --port ga", "game="),
            ("rhizon game show tar", "tarnholt"),
            ("rhizon help key", None),
            ("rhizon undo fen --at ", None),
            ("rhizon prov", "provision"),
        )
        for line, word in rows:
            with self.subTest(line):
                found = self.complete(line)
                if word is not None:
                    self.assertIn(word, found)

    def test_bare_rhizon_is_a_first_evening(self) -> None:
        shown = self.rhizon()
        self.assertEqual(shown.code, 0)
        self.assertEqual(re.findall(r"(?m)^  (\w+) {2,}\w", shown.out)[: len(FIRST_EVENING)], list(FIRST_EVENING))
        self.assertIn("rhizon --help", shown.out)

"""How a server is started: arguments for each runtime, and scripts that need no Rhizon."""

import shlex
import subprocess
import tempfile
import unittest
from pathlib import Path

import msgspec

from rhizon.adapters.games import GAMES, read_game
from rhizon.core.launch import Launch, fill, start_command, start_environment
from rhizon.core.model.game import RuntimeNeeds
from rhizon.core.model.instance import RuntimeChoice
from rhizon.core.model.setting import Stored
from rhizon.core.names import RelPath
from rhizon.core.runtimes import FAMILIES
from rhizon.core.settings.dialects.arguments import argument_list
from rhizon.core.start_scripts import START_SCRIPTS, start_scripts
from tests.support import TARNHOLT

DROVEMOOR = read_game(GAMES / "drovemoor.game.toml")

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
                measured = start_command(
                    TARNHOLT, Launch("keelson", runtime(major), heap, path_separator=":", measured="m")
                )
                self.assertEqual(any("-Xlog:gc:file=m/" in one for one in measured), major >= 9)
        self.assertEqual(FAMILIES["mono"].flags(6, 512), ())

    def test_with_and_without_a_loader(self) -> None:
        bare = start_command(TARNHOLT, Launch(None, runtime(17), 96, path_separator=":"))
        self.assertEqual((bare[0], bare[-2:]), ("/opt/java dir/bin/java", ("-jar", "tarnholt-server.jar")))
        loaded = start_command(TARNHOLT, Launch("keelson", runtime(17), 96, path_separator=";"))
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

    def test_the_script_reads_arguments_as_rhizon_does(self) -> None:
        loader = msgspec.structs.replace(
            DROVEMOOR.loaders["own"], command=("printf", "<%s>\\n", "first", "{arguments}", "{content}")
        )
        game = msgspec.structs.replace(
            DROVEMOOR, loaders={"own": loader}, environment={"HARBOUR": "it's $HOME", "TIDE": "a b:{PATH}:c"}
        )
        content = ("herds/010-a", "herds/020-b c")
        script = start_scripts(game, "own", None, 96, content)[START_SCRIPTS[0]]
        self.assertIn(b"export TIDE='a b:'\"$PATH\"':c'\n", script)
        self.assertIn(b'set "TIDE=a b:%PATH%:c"', start_scripts(game, "own", None, 96, content)[START_SCRIPTS[1]])
        self.assertIn(b"export HARBOUR='it'\"'\"'s $HOME'", script)
        texts = (
            b"",
            b"--on-moor x\n",
            b"# mine\r\n  --a=1 2  \r\n-b   two words\r\n\r\n--c\r\nplain words $HOME `id` *\n--d=\n-e 'q' \"r\"",
            "--name=Ærlig ü\n+port 7\n/opt x=y\n--k v=w\n--tab\tv\n".encode(),
            b"+set a=b  two words \n+set\n+set x\n+setting a b\n",
        )
        fps = Stored(file=RelPath("droving.args"), dialect="arguments", key="+set fps")
        own = Stored(file=RelPath("droving.env"), dialect="environment", key="MOOR")
        port = msgspec.structs.replace(game.ports[0], store=(fps, own))
        game = msgspec.structs.replace(game, ports=(port, *game.ports[1:]))
        self.assertEqual((game.pair_words, game.environment_file), (("+set",), "droving.env"))
        script = start_scripts(game, "own", None, 96, content)[START_SCRIPTS[0]].replace(
            b"exec printf", b'printf "%s|" "$MOOR" "$A1" >&2; exec printf'
        )
        for text in texts:
            with self.subTest(text=text), tempfile.TemporaryDirectory() as name:
                (Path(name) / "start.sh").write_bytes(script)
                (Path(name) / "droving.args").write_bytes(text)
                (Path(name) / "droving.env").write_bytes(b"# x\n1A=\nMOOR=a b $HOME=' \r\nA1=2")
                done = subprocess.run(["sh", f"{name}/start.sh"], capture_output=True)
                named = [word for one in content for word in ("--herd", one)]
                expected = "".join(f"<{one}>\n" for one in ("first", *argument_list(text, game.pair_words), *named))
                self.assertEqual((done.stdout.decode(), done.stderr), (expected, b"a b $HOME=' |2|"))
                command = start_command(
                    game,
                    Launch(
                        "own",
                        None,
                        96,
                        path_separator=":",
                        content=content,
                        arguments=argument_list(text, game.pair_words),
                    ),
                )
                self.assertEqual("".join(f"<{one}>\n" for one in command[2:]), expected)

    def test_variables_that_a_runtime_takes(self) -> None:
        mono = RuntimeChoice(family="Mono", major=6, version="6.8", program="/usr/bin/mono")
        game = msgspec.structs.replace(TARNHOLT, runtime=RuntimeNeeds(family="mono"), environment={"A": "b"})
        self.assertEqual(start_environment(game, mono, 96), {"MONO_GC_PARAMS": "max-heap-size=96m", "A": "b"})
        self.assertEqual(start_environment(game, None, 96), {"A": "b"})
        own = msgspec.structs.replace(game, environment={"MONO_GC_PARAMS": "mine"})
        self.assertEqual(start_environment(own, mono, 96), {"MONO_GC_PARAMS": "mine"})

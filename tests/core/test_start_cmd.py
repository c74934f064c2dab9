"""``start.cmd``, run by a cmd.exe: that of wine."""

import os
import random
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path
from typing import ClassVar

import msgspec

from rhizon.adapters.games import GAMES, read_game
from rhizon.core.settings.dialects.arguments import argument_list
from rhizon.core.start_cmd import ARGUMENTS, RUNTIME, cmd_script
from rhizon.core.start_scripts import START_SCRIPTS, start_scripts
from tests import examples
from tests.support import not_fast

DROVEMOOR = read_game(GAMES / "drovemoor.game.toml")
SECONDS = 300
# Prints each argument as the numbers of its characters, so that no console changes them, and ends with exit code 7.
SHOW = """\
for (var i = 0; i < WScript.Arguments.length; i++) {
  var text = WScript.Arguments(i), codes = [];
  for (var k = 0; k < text.length; k++) codes.push(text.charCodeAt(k));
  WScript.Echo("<" + codes.join(" ") + ">");
}
WScript.Quit(7);
"""


@not_fast
@unittest.skipUnless(shutil.which("wine"), "wine is not installed")
class StartCmd(unittest.TestCase):
    home: ClassVar[Path]
    environment: ClassVar[dict[str, str]]

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.home = Path(folder.name)
        cls.environment = {**os.environ, "WINEPREFIX": f"{folder.name}/prefix", "WINEDEBUG": "-all", "DISPLAY": ""}
        cls.addClassCleanup(cls.wine, "wineserver", "-k")
        cls.wine("wineserver", "-p")  # it stays between the runs, which start four times as fast then
        cls.wine("wineboot", "-i")

    @classmethod
    def wine(cls, *command: str, folder: Path | None = None, **more: str) -> "subprocess.CompletedProcess[bytes]":
        return subprocess.run(
            command,
            cwd=folder or cls.home,
            env=cls.environment | more,
            capture_output=True,
            timeout=SECONDS,
            check=False,
        )

    def arguments(self, script: bytes, folder: Path, page: str, **more: str) -> list[str]:
        """What a program that the script starts is given; its exit code is the script's. wine has no UTF-8 code page:
        it reads what is written in a script in one ``page``, and other files in another, byte by byte."""
        (folder / "start.cmd").write_bytes(script)
        (folder / "show.js").write_text(SHOW)
        done = self.wine("wine", "cmd", "/c", ".\\start.cmd", folder=folder, **more)
        self.assertEqual(done.returncode, 7, done)
        lines = done.stdout.decode().split()
        codes = "".join(f"{one} " for one in lines).removeprefix("<").removesuffix("> ").split("> <")
        texts = ["".join(chr(int(code)) for code in one.split()) for one in codes]
        return [text if text.isascii() else _bytes(text, page).decode() for text in texts]

    def expands_twice(self) -> bool:
        """Whether this cmd replaces ``%NAME%`` also in what it got from a variable. That of Windows does not."""
        (self.home / "twice.cmd").write_text('@set "A=%%OS%%"\r\n@set "B=%A%"\r\n@set B\r\n', newline="")
        return b"B=%OS%" not in self.wine("wine", "cmd", "/c", ".\\twice.cmd").stdout

    def test_arguments_of_a_file(self) -> None:
        loader = msgspec.structs.replace(
            DROVEMOOR.loaders["own"], command=("cscript", "//nologo", "show.js", "{arguments}", "{content}")
        )
        game = msgspec.structs.replace(DROVEMOOR, loaders={"own": loader}, environment={"HARBOUR": "a & b"})
        fps = msgspec.structs.replace(game.settings["language"].places[0], key="+set tongue")
        language = msgspec.structs.replace(game.settings["language"], store=fps)
        game = msgspec.structs.replace(game, settings={**game.settings, "language": language})
        content = ("herds/010-a", "herds/020-b c", "herds/it's & (c)")
        named = [word for one in content for word in ("--herd", one)]
        script = start_scripts(game, "own", None, 96, content)[START_SCRIPTS[1]]
        self.assertEqual(script.count(b"\n"), script.count(b"\r\n"))
        texts = {
            "nothing": b"",
            "a comment": b"# mine\n   # another\n\n  \n",
            "joined and apart": b"--a=1 2  \r\n-b   two words \t\r\n--c\r\n--d=\r\n/opt x=y\n--k v=w\n--tab\tv\n+p 7",
            "what cmd knows": b"a&b|c>d<e\n^x^^\n!PATH! !\n--e=(a) b) @echo\n;first\n,x;y=z\n*.cmd ?\nit's\n'q'\n:goto",
            "quotes": b'--name="The Old" & Mill\n"\n""\na"b&c|d>e"f\n-q "x y\n"a" b\n--last="\n',
            "backslashes": b'C:\\moor\\\n--x=\\\\\n\\"\n-p C:\\a b\\ \n"two \\" three&four \\\\"x" \\\\\n\\\n',
            "pairs": b'+set a "b c" & d \n+set x\n+set\n+set\ty=1  z\n',
            "other letters": "--name=Ærlig ü — ж\n“quoted”\n".encode(),
        }
        letters = 'ab \\"&^!=-;'
        if not self.expands_twice():
            texts["per cent"] = b'--a=100%\n%PATH% %%x%% 5% "6%"\n'
            letters += "%"
        chance = random.Random(15)
        for count in range(examples(3)):
            line = ["".join(chance.choices(letters, k=12)).strip() for _ in range(8)]
            texts[f"random {count}"] = "\n".join(line).encode()
        for name, text in texts.items():
            folder = self.home / f"of {name} & (1)"
            folder.mkdir()
            (folder / "droving.args").write_bytes(text)
            with self.subTest(name):
                self.assertEqual(self.arguments(script, folder, "cp1252"), [*argument_list(text, ("+set",)), *named])

    def test_words_of_a_definition(self) -> None:
        words = ("-Dx=a & b", "C:\\a b\\", "", "100%", "!HOME!", "it's ^ (this)", "Ærlig")
        quoted = ('the "Old', "Mill & 1", "", 'x" y', "C:\\z\\", "")
        both = (*words, *quoted)
        if self.expands_twice():
            both = tuple(one for one in both if "%" not in one)
        for name, one in {"plain": words, "quoted": both}.items():
            folder = self.home / name
            folder.mkdir()
            made = cmd_script(
                remarks=["A server."],
                variables={"HARBOUR": "100% & more"},
                command=[RUNTIME, "//nologo", "show.js", *one],
                recorded="C:\\gone\\cscript.exe",
                usual="cscript",
                arguments_file=None,
            )
            with self.subTest(name):
                self.assertEqual(self.arguments(made, folder, "cp437"), list(one))
                own = "C:\\windows\\system32\\cscript.exe"
                self.assertEqual(self.arguments(made, folder, "cp437", RHIZON_RUNTIME=own), list(one))
        self.assertNotIn("\0", made.decode())

    def test_no_marks_are_left(self) -> None:
        made = cmd_script(
            remarks=[], variables={}, command=["x", ARGUMENTS], recorded="", usual="", arguments_file="a b.args"
        ).decode()
        self.assertIsNone(next((mark for mark in ("<B>", "<Q>", "<F>", "<E>", "<TAB>", "\0") if mark in made), None))


def _bytes(text: str, page: str) -> bytes:
    """The bytes that were read as ``text``; Windows-1252 leaves some as they are."""
    as_they_are = page == "cp1252"
    return b"".join(one.encode("latin-1" if as_they_are and one < "\u0100" else page) for one in text)

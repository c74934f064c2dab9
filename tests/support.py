"""What several tests need: a temporary home, the built program, small archives, a shelf in memory."""

import functools
import io
import json
import os
import re
import shlex
import subprocess
import sys
import tempfile
import unittest
import zipfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any
from unittest import mock

import click
import jsonschema

from rhizon.adapters.games import GAMES, read_game
from rhizon.adapters.runtimes import Runtimes
from rhizon.adapters.world import WORLD
from rhizon.app.results import RESULTS, answer_schema
from rhizon.cli.commands import COMMANDS
from rhizon.cli.main import root
from rhizon.cli.servers import Server, ServerParam
from rhizon.core.model.catalog import HostFiles, Item, ItemIndex, ItemLine
from rhizon.core.model.decode import decode_json
from rhizon.core.runtimes import FAMILIES
from tests import FAST
from tests.forked import Copies

CATALOG = WORLD / "catalog"
LIST = WORLD / "tarnholt.list.toml"
PACK = WORLD / "packs" / "marsh-evening"
PROGRAM = [sys.executable, "-m", "rhizon"]
TARNHOLT = read_game(GAMES / "tarnholt.game.toml")


def java17() -> str | None:
    """A Java 17 of this machine; none where servers are left out."""
    if FAST in os.environ:
        return None
    found = Runtimes(Path("/none"), Path("/none/probes.json")).find(FAMILIES["java"])
    return next((one.program for one in found if one.report is not None and one.report.major == 17), None)


not_fast = unittest.skipIf(FAST in os.environ, "it needs a server or takes long")
NO_JAVA = "servers are left out" if FAST in os.environ else "there is no Java 17 on this machine"


def run_copy(
    arguments: Sequence[str], folder: Path, environment: dict[str, str], stdin: str, within: float
) -> "subprocess.CompletedProcess[str]":
    """Runs the program, by a copy of a process that has imported it, or from its beginning where another Python would
    be asked for."""
    if not _copies:
        _copies.append(Copies(environment))
    if _copies[0].fits(environment):
        return _copies[0].run(arguments, folder, environment, stdin, within)
    command = [*PROGRAM, *arguments]
    return subprocess.run(
        command, cwd=folder, env=environment, input=stdin, capture_output=True, text=True, timeout=within
    )


_copies: list[Copies] = []  # of this process, made when it is needed


class Done:
    """A finished run of the program."""

    def __init__(self, done: "subprocess.CompletedProcess[str]") -> None:
        self.code, self.out, self.err = done.returncode, done.stdout, done.stderr

    @property
    def json(self) -> Any:
        """The one object on standard output."""
        return json.loads(self.out)

    @property
    def result(self) -> Any:
        """The result with the findings beside it; None where the command failed."""
        answer = self.json
        return None if answer["result"] is None else {**answer["result"], "findings": answer["findings"]}

    @property
    def error(self) -> Any:
        return self.json["error"]


def hinted(text: str) -> str:
    """The command that a hint ends with, "" where it holds none."""
    found = re.search(r"(?:^|: |\. )(rhizon [a-z].*)$", text)
    return found[1].rstrip(".") if found else ""


@functools.cache
def validator(command: str) -> jsonschema.Draft202012Validator:
    """Of what a command prints with --json."""
    return jsonschema.Draft202012Validator(answer_schema(command))


class Case(unittest.TestCase):
    """A test with a folder of its own, in which the program runs with its own state."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="rhizon-test-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def environment(self) -> dict[str, str]:
        left_out = (
            "RHIZON_",
            "COLUMNS",
            "PYTHONDONTWRITEBYTECODE",
        )  # the program starts twice as fast with its bytecode
        kept = {name: value for name, value in os.environ.items() if not name.startswith(left_out)}
        own = {"RHIZON_STATE": str(self.folder / "state"), "RHIZON_CONFIG": str(self.folder / "config")}
        return kept | own | {"NO_COLOR": "1", "PYTHONWARNINGS": "error"}

    def rhizon(self, *arguments: object, stdin: str = "", within: int = 120) -> Done:
        """Runs the program in the folder; a traceback is never an answer."""
        done = run_copy([*map(str, arguments)], self.folder, self.environment(), stdin, within)
        self.assertNotIn("Traceback", done.stderr, done.stderr)
        self.assertNotIn("internal error", done.stderr + done.stdout)
        if "--json" in arguments:
            words = [str(one) for one in arguments if not str(one).startswith("-")]
            self.assert_answer(words or [""], Done(done))
        self.assert_hints(Done(done))
        return Done(done)

    def assert_answer(self, words: Sequence[str], done: "Done") -> None:
        """What a program is told: one object, as the command's schema says, "ok" exactly where the exit code is 0."""
        self.assertEqual(done.out.count("\n"), 1, done.out)
        self.assertEqual((done.json["ok"], done.json["exit_code"]), (not done.code, done.code))
        command = next((one for one in (" ".join(words[:2]), words[0]) if one in RESULTS), None)
        if command is not None:
            validator(command).validate(done.json)

    def assert_hints(self, done: "Done") -> None:
        """Every hint that holds a command holds a whole one, without words to fill in, that the program can parse."""
        texts = re.findall(r"(?m)^(?:hint: |  → )(.*)$", done.err + done.out)
        if done.out.startswith("{"):
            answer = done.json
            texts += [one["remedy"] for one in answer.get("findings", [])] + [answer.get("error", {}).get("hint", "")]
        for text in texts:
            line = hinted(text)
            if line:
                with mock.patch.object(ServerParam, "convert", lambda _self, value, *_: Server(Path(value), value)):
                    name, *arguments = shlex.split(line)[1:]
                    self.assertIn(name, COMMANDS, text)
                    self.assertNotRegex(line, r"\b(DIR|FILE|FOLDER|SERVER|NAME|LIST|ID|N)\b|\.\.\.", text)
                    command = root.get_command(click.Context(root), name)
                    assert command is not None
                    while isinstance(command, click.Group):
                        command = command.get_command(click.Context(command), arguments.pop(0))
                        assert command is not None, text
                    if arguments not in (["--help"], ["-h"]):
                        command.make_context(name, arguments)

    def write(self, name: str, text: str | bytes) -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
        return path


def jar(entries: Mapping[str, bytes | str]) -> bytes:
    """A zip with these entries."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for name, data in entries.items():
            made.writestr(name, data)
    return out.getvalue()


class MemoryShelf:
    """A catalog in memory for the game tarnholt, written as short tables.

    ``items`` maps an id to its releases; a release is a version with any fields of the catalog's format.
    """

    def __init__(self, items: Mapping[str, Mapping[str, Mapping[str, Any]]], others: Mapping[str, str] | None = None):
        self._items = {name: _item(name, releases) for name, releases in items.items()}
        self._others = dict(others or {})

    def index(self, game: str) -> ItemIndex:
        lines = {
            name: ItemLine(
                title=item.title,
                kind=item.kind,
                provides=tuple(sorted({one.id for release in item.releases for one in release.provides})),
            )
            for name, item in self._items.items()
        }
        return ItemIndex(format="rhizon-index/1", items=lines)

    def item(self, game: str, name: str) -> tuple[str, Item] | None:
        return ("memory", self._items[name]) if name in self._items else None

    def prefetch(self, game: str, names: Sequence[str]) -> None:
        pass

    def hidden(self, game: str, name: str) -> list[tuple[str, str, tuple[str, ...]]]:
        return []

    def host(self, game: str) -> tuple[str, HostFiles]:
        builds = [
            ("keelson", "3.0.2", ">=4.1, <4.3", "stable", True),
            ("keelson", "3.1.0", ">=4.2, <4.3", "stable", True),
            ("keelson", "3.2.0-preview.1", ">=4.2, <4.3", "preview", False),
            ("gunwale", "5.1.0", ">=4.1, <4.3", "stable", True),
        ]
        data = {
            "format": "rhizon-host-files/1",
            "server": [{"version": version, "artefact": _artefact("server")} for version in ("4.0", "4.1", "4.2")],
            "loaders": [
                {
                    "loader": loader,
                    "build": build,
                    "game_versions": versions,
                    "channel": channel,
                    "recommended": recommended,
                    "artefact": _artefact(f"{loader}-{build}"),
                }
                for loader, build, versions, channel, recommended in builds
            ],
        }
        return "memory", decode_json(HostFiles, json.dumps(data).encode(), "memory", "host files")

    def other_game(self, game: str, name: str) -> str | None:
        return self._others.get(name)


def _artefact(name: str) -> dict[str, Any]:
    return {"path": f"{name}.jar", "sha256": "0" * 64, "size": 1}


def _item(name: str, releases: Mapping[str, Mapping[str, Any]]) -> Item:
    data = {
        "format": "rhizon-item/1",
        "id": name,
        "game": "tarnholt",
        "kind": "mod",
        "title": name.replace("-", " ").title(),
        "releases": [
            {"version": version, "artefact": _artefact(f"{name}-{version}"), **fields}
            for version, fields in releases.items()
        ],
    }
    return decode_json(Item, json.dumps(data).encode(), name, "item")

"""Rules that hold over the whole tree."""

import ast
import importlib
import re
import subprocess
import sys
import unittest
from collections.abc import Iterator
from pathlib import Path

import rhizon
from rhizon.adapters.games import ENDING, GAMES
from rhizon.core import errors

SRC = Path(rhizon.__file__).parent
ROOT = Path(__file__).parents[1]
MAY_IMPORT = {
    "core": set(),
    "world": set(),
    "keeper": set(),
    "adapters": {"core", "keeper"},
    "app": {"core", "adapters", "keeper"},
    "cli": {"core", "app"},
}
NO_IO_IN_CORE = {"os", "shutil", "socket", "subprocess", "time", "tempfile", "pathlib", "urllib", "http", "sqlite3"}
# defined in a command group's module, or in a program of its own; nobody imports them
SUBCOMMANDS = {
    "build",
    "probe",
    "serve",
    "show",
    "check",
    "list_",
    "main",
    "ask",
    "echo",
    "status",
    "verify",
    "prune",
    "describe",
    "new",
    "try_",
    "install",
    "remove",
    "fetch",
    "schema",
    "plan",
    "apply",
    "each",
}
MODULES = sorted(path for path in SRC.rglob("*/*.py"))


def imports(path: Path) -> Iterator[tuple[int, str]]:
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.ImportFrom):
            yield from ((node.lineno, f"{node.module}.{alias.name}") for alias in node.names)
        elif isinstance(node, ast.Import):
            yield from ((node.lineno, alias.name) for alias in node.names)


class Layers(unittest.TestCase):
    def test_imports_point_inwards(self) -> None:
        self.assertGreater(len(MODULES), 50)
        for path in MODULES:
            layer = path.relative_to(SRC).parts[0]
            for line, name in imports(path):
                parts = name.split(".")
                if parts[0] == "rhizon" and len(parts) > 2:  # "from rhizon import __version__" is no layer
                    with self.subTest(file=str(path), line=line):
                        self.assertIn(parts[1], MAY_IMPORT[layer] | {layer})

    def test_the_core_does_no_io_and_knows_no_interface(self) -> None:
        for path in (SRC / "core").rglob("*.py"):
            for line, name in imports(path):
                with self.subTest(file=str(path), line=line):
                    self.assertNotIn(name.split(".")[0], NO_IO_IN_CORE | {"click", "rich"})

    def test_the_keeper_imports_nothing_that_is_not_of_python(self) -> None:
        for path in (SRC / "keeper").glob("*.py"):
            for line, name in imports(path):
                with self.subTest(file=str(path), line=line):
                    parts = name.split(".")
                    self.assertTrue(parts[0] in sys.stdlib_module_names or parts[:2] == ["rhizon", "keeper"])

    def test_rooms_of_app_import_each_other_in_no_circle(self) -> None:
        rooms: dict[str, set[str]] = {}
        for path in (SRC / "app").rglob("*.py"):
            parts = path.relative_to(SRC / "app").parts
            room = parts[0] if len(parts) > 1 else path.stem
            for _, name in imports(path):
                if name.startswith("rhizon.app.") and (to := name.split(".")[2]) != room:
                    rooms.setdefault(room, set()).add(to)
        self.assertGreater(len(rooms), 8)
        while rooms:  # take away what needs nothing that is left
            free = {room for room, needs in rooms.items() if not needs & rooms.keys()}
            self.assertTrue(free, f"a circle among {', '.join(sorted(rooms))}")
            rooms = {room: needs for room, needs in rooms.items() if room not in free}

    def test_help_imports_no_command(self) -> None:
        run = "root.main(['--help'], standalone_mode=False)"
        code = f"import sys; from rhizon.cli.main import root; {run}; print(*sys.modules)"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        loaded = set(done.stdout.splitlines()[-1].split())
        heavy = {"rich", "msgspec", "urllib3", "psutil", "sqlite3", "tomlkit", "rhizon.app", "rhizon.adapters"}
        self.assertEqual(loaded & heavy, set())


class Names(unittest.TestCase):
    def test_all_is_what_is_defined(self) -> None:
        for path in MODULES:
            name = ".".join(path.relative_to(SRC.parent).with_suffix("").parts).removesuffix(".__init__")
            module = importlib.import_module(name)
            offered = getattr(module, "__all__", None)
            if offered is None:
                continue
            with self.subTest(name):
                self.assertEqual(len(offered), len(set(offered)))
                for one in offered:
                    self.assertTrue(hasattr(module, one), one)
                if path.name != "__init__.py":
                    tree = ast.parse(path.read_text("utf-8"))
                    public = {
                        node.name
                        for node in tree.body
                        if isinstance(node, ast.FunctionDef | ast.ClassDef) and not node.name.startswith("_")
                    }
                    self.assertLessEqual(public, set(offered) | SUBCOMMANDS)

    def test_every_error_code_and_finding_is_documented(self) -> None:
        exit_codes = (ROOT / "docs" / "exit-codes.md").read_text("utf-8")
        findings = (ROOT / "docs" / "findings.md").read_text("utf-8")
        kinds = "|".join(name for name in errors.__all__ if name.endswith("Error"))
        raised, found = set(), set()
        for path in MODULES:
            text = path.read_text("utf-8")
            raised |= set(re.findall(rf'(?:{kinds})\(\s*"([a-z-]+)"', text))
            raised |= set(re.findall(r'_bad\([\w.]+, "([a-z-]+)"', text))
            raised |= set(re.findall(r'_sign\(\s*"([a-z-]+)"', text)) | set(
                re.findall(r'\bcode="(start-[a-z]+)"', text)
            )
            found |= set(re.findall(r'Finding\(\s*code="([a-z-]+)"', text))
            found |= set(re.findall(r'_finding\(\s*"([a-z-]+)"', text))
            if path.parent.name == "check":
                found |= set(re.findall(r'\b(?:error|warning|note)\(\s*"([a-z-]+)"', text))
        raised -= {"rhizon-"}
        self.assertGreater(len(raised), 50)
        self.assertGreater(len(found), 15)
        for code in sorted(raised):
            with self.subTest(error=code):
                self.assertIn(f"`{code}`", exit_codes)
        for code in sorted(found):
            with self.subTest(finding=code):
                self.assertIn(f"`{code}`", findings)


class Games(unittest.TestCase):
    def test_no_code_knows_a_game(self) -> None:
        """What is known of a game is in its definition. The world of the demo is data; examples of commands name some
        list and some server."""
        names = {one.name.removesuffix(ENDING) for one in GAMES.glob(f"*{ENDING}")}
        for file in sorted((ROOT / "src").rglob("*.py")):
            if "world" in file.relative_to(ROOT / "src" / "rhizon").parts[:1]:
                continue
            tree = ast.parse(file.read_text("utf-8"))
            examples = {
                id(text)
                for node in ast.walk(tree)
                for part in (
                    [one.value for one in node.keywords if one.arg == "examples"]
                    if isinstance(node, ast.Call)
                    else [node.value]
                    if isinstance(node, ast.Assign) and getattr(node.targets[0], "attr", "") == "examples"
                    else []
                )
                for text in ast.walk(part)
            }
            for node in ast.walk(tree):
                if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in examples:
                    with self.subTest(file=file.name, text=node.value[:60]):
                        self.assertFalse([name for name in names if name in node.value.lower()])

"""Lists of what is enabled, in the order of needs."""

import json
import unittest
from typing import Any

import msgspec

from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import Stored
from rhizon.core.names import RelPath
from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.settings.load_order import in_load_order, misplaced, put_in_load_order
from tests.app.fakes import read
from tests.core.wrong_documents import EXAMPLES
from tests.support import TARNHOLT


def lock(**because: str) -> Lock:
    """Releases with who asked for each."""
    data = json.loads(json.dumps(EXAMPLES["lock"]))
    one: dict[str, Any] = data["releases"][0]
    data["releases"] = [{**one, "id": name, "because": asked.split()} for name, asked in sorted(because.items())]
    made: Lock = read(Lock, data)
    return made


NEEDS = lock(app="list", lib="app more", base="lib", more="list")


class Order(unittest.TestCase):
    def test_what_is_needed_comes_before(self) -> None:
        for present, expected in (
            ("app lib base", "base lib app"),
            ("base lib app", "base lib app"),
            ("mine app lib other base more", "mine other base lib app more"),
            ("more app", "more app"),
            ("", ""),
        ):
            self.assertEqual(" ".join(in_load_order(present.split(), NEEDS)), expected)
        circle = lock(a="b", b="a")
        self.assertEqual(in_load_order(["b", "a"], circle), ["b", "a"])

    def test_in_the_files_of_a_game(self) -> None:
        for dialect, key, before, after in (
            ("lines", "{name}", "# first\napp # mine\n\nlib\nbase", "# first\nbase\n\nlib\napp # mine\n"),
            ("json", "lit/[{name}]", '{"lit": ["app",\n "other", "lib", "base"], "x": 1}\n',
             '{"lit": ["other",\n "base", "lib", "app"], "x": 1}\n'),
            ("lines", "{name}", "base\nlib\napp", "base\nlib\napp"),
            ("properties", "on.{name}", "on.app = yes\non.lib = yes\n", "on.app = yes\non.lib = yes\n"),
        ):  # fmt: skip
            with self.subTest(before):
                loader = NEEDS.target.loader
                place = Stored(file=RelPath("on.txt"), dialect=dialect, key=key)  # type: ignore[arg-type]
                rule = msgspec.structs.replace(TARNHOLT.loaders[loader], enabled=place)
                game = msgspec.structs.replace(TARNHOLT, loaders={**TARNHOLT.loaders, loader: rule})
                made = put_in_load_order(game, NEEDS, "on.txt", DIALECTS[dialect], before.encode())
                self.assertEqual(made.decode(), after)
                self.assertEqual(put_in_load_order(game, NEEDS, "other.txt", DIALECTS[dialect], b"x"), b"x")
                if dialect != "properties":
                    self.assertEqual(misplaced(game, NEEDS, DIALECTS[dialect].read(made)), [])
                    wrong = misplaced(game, NEEDS, DIALECTS[dialect].read(before.encode()))
                    self.assertEqual(bool(wrong), before != after)


if __name__ == "__main__":
    unittest.main()

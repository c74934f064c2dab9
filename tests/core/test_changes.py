"""What differs between two states of an instance, and what a world would lose."""

import unittest
from typing import Any

import msgspec

from rhizon.core.changes import changes_between, things_lost
from rhizon.core.model.decode import decode_json, encode_json
from rhizon.core.model.lock import Lock
from tests.core.wrong_documents import EXAMPLES

NOTHING: tuple[dict[str, Any], dict[str, Any]] = ({}, {})


def lock(releases: dict[str, str], *, players: bool = True, server: str = "a", **target: Any) -> Lock:
    """A lock with these releases (id to version); a file's hash is made from its version."""
    base = decode_json(Lock, encode_json(EXAMPLES["lock"]), "lock", "lock")
    one = base.releases[0]
    made = []
    for name, version in releases.items():
        digest = (version.encode().hex() * 64)[:64]
        data = msgspec.to_builtins({"version": version, "id": name})
        file = msgspec.structs.replace(one.file, sha256=digest)
        version_type = type(one.version)(data["version"])
        made.append(
            msgspec.structs.replace(
                one, id=name, title=name.title(), version=version_type, file=file, on_server=True, for_players=players
            )
        )
    where = msgspec.structs.replace(base.target, **target)
    files = msgspec.structs.replace(base.server, sha256=server * 64)
    return msgspec.structs.replace(base, releases=tuple(made), target=where, server=files)


class Differences(unittest.TestCase):
    def test_releases(self) -> None:
        # before, after -> (id, before, after) each
        rows: tuple[tuple[dict[str, str], dict[str, str], list[tuple[str, str | None, str | None]]], ...] = (
            ({"a": "1"}, {"a": "1"}, []),
            ({"a": "1"}, {"a": "2"}, [("a", "1", "2")]),
            ({"a": "1"}, {}, [("a", "1", None)]),
            ({}, {"b": "3", "a": "1"}, [("a", None, "1"), ("b", None, "3")]),
            ({"a": "1", "b": "1"}, {"b": "2", "c": "1"}, [("a", "1", None), ("b", "1", "2"), ("c", None, "1")]),
        )
        for old, new, expected in rows:
            with self.subTest(old=old, new=new):
                found = changes_between(lock(old), lock(new), NOTHING, NOTHING, (1, 1))
                shown = [
                    (one.id, str(one.before) if one.before else None, str(one.after) if one.after else None)
                    for one in found.releases
                ]
                self.assertEqual(shown, expected)
                self.assertEqual(found.none, not expected)
                self.assertEqual((found.touches_world, found.for_players), (bool(expected), bool(expected)))

    def test_what_concerns_whom(self) -> None:
        server_only = changes_between(
            lock({"a": "1"}, players=False), lock({"a": "2"}, players=False), NOTHING, NOTHING, (1, 1)
        )
        self.assertEqual((server_only.touches_world, server_only.for_players), (True, False))
        runtime = changes_between(lock({}), lock({}, runtime_major=21), NOTHING, NOTHING, (1, 1))
        self.assertEqual((runtime.touches_world, runtime.for_players), (True, False))
        program = changes_between(lock({}), lock({}, server="b"), NOTHING, NOTHING, (1, 1))
        self.assertEqual([one.name for one in program.target], ["server_files"])
        self.assertFalse(program.for_players)
        version = changes_between(lock({}), lock({}, game_version="4.1", server="b"), NOTHING, NOTHING, (1, 1))
        self.assertEqual([one.name for one in version.target], ["game_version"])
        self.assertTrue(version.for_players)

    def test_values(self) -> None:
        found = changes_between(
            lock({}),
            lock({}),
            ({"pvp": True, "name": "A"}, {"pvp": False, "seed": "x"}),
            ({"game": 1}, {"game": 2}),
            (9, 8),
        )
        shown = [(one.name, one.before, one.after) for one in (*found.settings, *found.ports)]
        self.assertEqual(shown, [("name", "A", None), ("pvp", True, False), ("seed", None, "x"), ("game", 1, 2)])
        assert found.memory is not None
        self.assertEqual((found.memory.before, found.memory.after), (9, 8))
        self.assertFalse(found.touches_world)

    def test_what_a_world_would_lose(self) -> None:
        things = {"a": {"lamp": 3}, "gone": {"lamp": 1, "boat": 2}}
        (finding,) = things_lost("marshes/fen", "d", things, lock({"a": "1"}))
        self.assertEqual((finding.code, finding.subject), ("world-loses-things", "marshes/fen"))
        self.assertIn("gone will be removed, and with it from the world: boat (2), lamp (1)", finding.what)
        self.assertEqual(things_lost("m", "d", {}, lock({})), [])

"""Copies of a server beside it, units given to a systemd of our own, and figures of all servers."""

import os
from pathlib import Path
from typing import Any
from unittest import mock

import msgspec

from rhizon.app.instance.state import require_instance_state
from rhizon.app.run.copies import PREFIX, Copies, copies_room, room_prefix
from rhizon.app.run.isolate import IsolateWishes, isolate_content
from rhizon.app.run.service import install_service, remove_service, service_text
from rhizon.core.errors import StateError, TrustError
from rhizon.core.model.game import WorldInUse
from rhizon.core.names import RelPath
from tests.app.fakes import AppCase, Recorder


class Beside(AppCase):
    def setUp(self) -> None:
        super().setUp()
        self.state = self.server("marsh")
        self.home = self.state.home.folder
        self.write("marsh/mods/own.jar", "by hand")
        self.write("marsh/marshes/fen/marsh.facts", "raised-with = 4.2\n")
        self.write("marsh/marshes/fen/open.by", "pid 1\n")
        self.write("marsh/config/x.cfg", "y\n")
        content = {"reedlight": Path("mods/reedlight.jar"), "own": Path("mods/own.jar")}
        self.room = copies_room(self.host) / f"{room_prefix()}x"
        self.room.mkdir()
        rule = WorldInUse(file=RelPath("open.by"))
        game = self.state.game
        game = msgspec.structs.replace(game, world=msgspec.structs.replace(game.world, in_use=rule))
        state = msgspec.structs.replace(require_instance_state(self.host, self.state.home), game=game)
        self.copies = Copies(self.host, state, content, self.room)

    def test_what_is_in_one(self) -> None:
        one = self.copies.make("1", ["reedlight"], with_world=False)
        two = self.copies.make("2", ["own"], with_world=True)
        self.assertEqual([path.name for path in (one / "mods").iterdir()], ["reedlight.jar"])
        self.assertEqual([path.name for path in (two / "mods").iterdir()], ["own.jar"])
        self.assertEqual((one / "config/x.cfg").read_text(), "y\n")
        self.assertFalse((one / "marshes").exists())
        self.assertEqual([path.name for path in (two / "marshes/fen").iterdir()], ["marsh.facts"])  # no mark
        inventory = require_instance_state(self.host, self.state.home).inventory.files
        store = self.host.store.path(inventory["mods/reedlight.jar"].sha256)
        self.assertEqual((one / "mods/reedlight.jar").stat().st_ino, store.stat().st_ino)  # linked, not copied
        texts = [(place / "marsh.properties").read_text() for place in (self.home, one, two)]
        games = [next(line for line in text.splitlines() if line.startswith("net.game")) for text in texts]
        self.assertEqual(len(set(games)), 3)  # each has ports of its own
        self.assertIn("net.bind = 127.0.0.1", texts[1])  # and listens for nobody else
        self.copies.remove(two)
        self.copies.verify()
        store.chmod(0o644)
        (one / "mods/reedlight.jar").write_bytes(b"changed by the server")
        with self.assertRaises(TrustError) as caught:
            self.copies.remove(one)
        self.assertEqual(caught.exception.code, "content-changes-itself")
        self.assertFalse(store.exists())

    def test_what_a_killed_run_left_goes(self) -> None:
        left = self.room.parent / f"{PREFIX}999999999-1-killed"
        other = self.room.parent / f"{PREFIX}not-ours"
        for one in (left, other):
            one.mkdir()
        copies_room(self.host)
        self.assertEqual([left.exists(), other.exists(), self.room.exists()], [False, True, True])

    def test_nothing_to_choose_from(self) -> None:
        for one in (self.home / "mods").iterdir():
            one.unlink()
        with self.assertRaises(StateError) as caught:
            isolate_content(self.host, self.home, Recorder(), lambda: False, IsolateWishes())
        self.assertEqual(caught.exception.code, "no-content")


class Units(AppCase):
    """With a systemctl of our own in front, which writes down what it is asked."""

    def setUp(self) -> None:
        super().setUp()
        self.home = self.server("marsh").home.folder
        self.asked = self.folder / "asked"
        program = self.write(
            "bin/systemctl",
            f'#!/bin/sh\necho "$@" >> {self.asked}\ncase "$*" in *start*) echo no such unit >&2; exit 5;; esac\n',
        )
        program.chmod(0o755)
        path = f"{program.parent}{os.pathsep}{os.environ['PATH']}"
        patch = mock.patch.dict(os.environ, {"PATH": path, "XDG_CONFIG_HOME": str(self.folder / "conf")})
        patch.start()
        self.addCleanup(patch.stop)

    def install(self, **more: Any) -> Any:
        return install_service(self.host, self.home, **{"user": True, "start": False, "dry_run": False, **more})

    def test_install_and_remove(self) -> None:
        unit = self.folder / "conf/systemd/user/rhizon-marsh.service"
        self.assertTrue(self.install(dry_run=True).planned)
        self.assertFalse(unit.exists())
        done = self.install()
        self.assertEqual((done.files, done.enabled), ((str(unit),), True))
        self.assertEqual(unit.read_text(), done.text)
        self.assertNotIn("User=", done.text)
        self.assertIn("WantedBy=default.target", done.text)
        self.assertEqual(
            self.asked.read_text().splitlines(), ["--user daemon-reload", "--user enable rhizon-marsh.service"]
        )
        with self.assertRaises(StateError) as caught:
            self.install(start=True)
        self.assertEqual((caught.exception.code, caught.exception.details), ("systemd-refused", ("no such unit",)))
        self.assertEqual(remove_service(self.host, self.home, user=True, dry_run=False).files, (str(unit),))
        self.assertFalse(unit.exists())
        self.assertEqual(remove_service(self.host, self.home, user=True, dry_run=False).files, ())
        for manager in ("systemd", "openrc", "launchd"):
            self.assertIn(str(self.home), service_text(self.host, self.home, user=False, manager=manager).text)

    def test_no_systemd(self) -> None:
        with mock.patch.dict(os.environ, {"PATH": str(self.folder)}), self.assertRaises(StateError) as caught:
            self.install()
        self.assertEqual(caught.exception.code, "no-systemd")

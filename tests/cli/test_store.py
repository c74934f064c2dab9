"""The store that all instances share, through the real program."""

import json
import shutil
import unittest

from rhizon.adapters.store import Store
from tests.support import CATALOG, NO_JAVA, PACK, Case, java17


@unittest.skipUnless(java17(), NO_JAVA)
class Shared(Case):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(CATALOG, self.folder / "catalog")
        for folder in ("one", "two"):  # without an accepted licence all is prepared and nothing is started
            done = self.rhizon("provision", PACK, folder, "--catalog", "catalog", "--set", "address=127.0.0.1")
            self.assertIn("licence", done.err)
        self.store = Store(self.folder / "state/store")

    def test_status_and_prune(self) -> None:
        before = self.rhizon("store", "status", "--json").result
        self.assertEqual([one["folder"].rpartition("/")[2] for one in before["used_by"]], ["one", "two"])
        self.assertGreater(before["shared_bytes"], before["bytes"] // 2)
        stray = self.store.add(b"nobody's")
        self.write("state/store/incoming-x", b"cut short")
        found = self.rhizon("store", "status", "--json").result
        self.assertEqual((found["files"] - before["files"], found["left_over"]), (1, 1))
        self.assertIn("left over", self.rhizon("store", "status").out)
        for arguments, files in (((), 0), (("--since", "0m", "--dry-run"), before["unused_files"] + 2)):
            self.assertEqual(self.rhizon("store", "prune", *arguments, "--json").result["files"], files)
            self.assertTrue(self.store.has(stray, 8))
        lock = json.loads((self.folder / "two/.rhizon/lock.json").read_text())
        shutil.copy(self.folder / "two/.rhizon/lock.json", self.folder / "kept.json")
        for folder in ("one", "two"):
            shutil.rmtree(self.folder / folder)
        self.rhizon("store", "prune", "--since", "0m", "--lock", "kept.json")
        self.assertFalse(self.store.has(stray, 8) or (self.folder / "state/store/incoming-x").exists())
        left = {entry.name for entry in self.store.entries()}
        on_server = {one["file"]["sha256"] for one in lock["releases"] if one["on_server"]}
        laid = {one["sha256"] for one in [*lock["overlay"], *lock.get("player_overlay", [])]}
        self.assertEqual(left, {lock["server"]["sha256"], lock["loader"]["file"]["sha256"], *on_server, *laid})
        self.rhizon("store", "prune", "--since", "0m")
        self.assertEqual(list(self.store.entries()), [])
        wrong = self.rhizon("store", "prune", "--lock", PACK / "rhizon-pack.toml", "--json")
        self.assertEqual((wrong.code, wrong.error["code"]), (2, "bad-document"))

    def test_what_is_damaged_is_fetched_again(self) -> None:
        self.assertEqual(self.rhizon("store", "verify").code, 0)
        lock = json.loads((self.folder / "one/.rhizon/lock.json").read_text())
        content = next(one["file"] for one in lock["releases"] if one["id"] == "reedlight")
        unknown = self.store.add(b"from nowhere")
        for name in (content["sha256"], unknown):
            path = self.store.path(name)
            data = path.read_bytes()
            path.chmod(0o644)
            path.write_bytes(data[::-1])
        done = self.rhizon("store", "verify", "--json")
        self.assertEqual(done.code, 1)
        self.assertEqual(set(done.result["damaged"]), {content["sha256"], unknown})
        self.assertEqual(done.result["fetched"], [content["sha256"]])
        self.assertEqual({one["code"] for one in done.json["findings"]}, {"store-file-damaged"})
        self.assertTrue(self.store.sound(content["sha256"]) and self.store.has(content["sha256"], content["size"]))
        self.assertFalse(self.store.path(unknown).exists())
        self.assertEqual(self.rhizon("store", "verify").code, 0)
        # the instances had the damaged bytes by hard link: check says so, provisioning mends it
        self.assertIn("file-changed", self.rhizon("check", "one", "--json").out)

"""Taking over a server that was set up by hand, and giving it back."""

import hashlib
import shutil
from pathlib import Path

from tests.support import CATALOG, Case, not_fast

WORLD = CATALOG.parent
START = '#!/bin/sh\ncd "$(dirname "$0")"\nexec ./drovemoor-server --on-moor fairfield --herd herds/010-reevecraft\n'


def hashes(folder: Path) -> dict[str, str]:
    """Every file but Rhizon's own, by its bytes."""
    return {
        one.relative_to(folder).as_posix(): hashlib.sha256(one.read_bytes()).hexdigest()
        for one in folder.rglob("*")
        if one.is_file() and ".rhizon" not in one.parts
    }


@not_fast
class Adopted(Case):
    def by_hand(self, game: str) -> Path:
        """A server that plays already, without anything of Rhizon's."""
        listed = WORLD / f"{game}.list.toml"
        done = self.rhizon("provision", listed, "made", "--catalog", CATALOG, "--accept-licence", "--name", "made")
        self.assertEqual(done.code, 0, done.err)
        self.assertEqual(self.rhizon("run", "--trial", "made").code, 0)
        folder = self.folder / "old"
        shutil.copytree(self.folder / "made", folder, ignore=shutil.ignore_patterns(".rhizon", "start.*"))
        self.assertEqual(self.rhizon("delete", "made", "--yes").code, 0)
        return folder

    def test_taken_over_changed_and_given_back(self) -> None:
        folder = self.by_hand("drovemoor")
        (folder / "go.sh").write_text(START)
        self.write("old/herds/strays/notes.txt", "three calves")
        before = hashes(folder)
        planned = self.rhizon("adopt", "old", "--dry-run", "--json").result
        self.assertEqual((planned["game"], planned["planned"]), ("drovemoor", True))
        self.assertFalse((folder / ".rhizon").exists())
        done = self.rhizon("adopt", "old", "--json").result
        self.assertEqual(hashes(folder), before)
        said = {one["what"]: (one["value"], one["certain"]) for one in done["recognised"]}
        self.assertEqual((said["version"], said["loader"]), (("1.4", True), ("own 0", True)))
        self.assertEqual(len(done["content"]), 5)
        self.assertEqual(done["unknown"], ["herds/strays"])
        self.assertEqual(done["settings"]["name"], "Harbour Lights market day")
        self.assertIn('[content.longhorns]\nrange = "=1.5"', done["list"])
        self.assertEqual({one["severity"] for one in done["findings"]} - {"note"}, set())
        self.assertEqual(self.rhizon("adopt", "old", "--json").error["code"], "is-ours")
        ran = self.rhizon("run", "--trial", "old", "--json").result
        self.assertEqual(ran["content"], ["reevecraft", "droverlib", "longhorns", "abbeyford"])
        worlds = {path for path in before if path.startswith("moors/")}
        # what is changed has to be taken back first
        self.assertEqual(self.rhizon("set", "old", "max_players=20").code, 0)
        refused = self.rhizon("adopt", "old", "--undo", "--json")
        self.assertEqual((refused.code, refused.error["code"]), (1, "changed-since"))
        self.assertEqual(self.rhizon("undo", "old").code, 0)
        self.assertEqual(self.rhizon("adopt", "old", "--undo").code, 0)
        self.assertFalse((folder / ".rhizon").exists())
        left = {path: sha256 for path, sha256 in hashes(folder).items() if path not in worlds}
        self.assertEqual(left, {path: sha256 for path, sha256 in before.items() if path not in worlds})
        self.assertIn("no servers", self.rhizon("list").out)

    def test_by_a_catalog(self) -> None:
        """What a catalog has is known by its bytes: an update knows it too. A file of another port is not taken."""
        folder = self.by_hand("gloamwick")
        taken = self.rhizon("adopt", "old", "--catalog", CATALOG, "--json").result
        said = {one["what"]: one["value"] for one in taken["recognised"]}
        self.assertEqual((said["version"], said["loader"]), ("1.2", "lampwright 3.1.0"))
        self.assertTrue(all("harbour-shelf" in one["how"] for one in taken["content"]))
        before = hashes(folder)
        self.assertEqual(self.rhizon("update", "old").code, 0)
        kept = {path for path, sha256 in hashes(folder).items() if before.get(path) == sha256}
        self.assertLessEqual(set(before) - kept, set())
        shutil.copytree(folder, self.folder / "twin", ignore=shutil.ignore_patterns(".rhizon"))
        self.assertEqual(self.rhizon("adopt", "twin", "--json").error["code"], "port-clash")
        (self.folder / "nothing").mkdir()
        lost = self.rhizon("adopt", "nothing", "--json")
        self.assertEqual((lost.code, lost.error["code"]), (2, "game-not-recognised"))
        self.assertIn("rhizon game new", lost.error["hint"])

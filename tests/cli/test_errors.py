"""The built program on wrong input: one clear message, a hint, the exit code, and things as they were."""

import json
import shlex
import shutil
import unittest

from rhizon.core.model.documents import DOCUMENTS
from tests.core.test_documents import made_wrong
from tests.core.wrong_documents import ALWAYS, WRONG
from tests.support import CATALOG, LIST, NO_JAVA, PACK, Case, hinted, jar, java17, not_fast

MARSH = """format = "rhizon-list/1"
name = "marsh"
game = "tarnholt"
[content]
lanternfish = "*"
"""


class Arguments(Case):
    def test_rows(self) -> None:
        self.write("marsh.list.toml", MARSH)
        self.write("near.list.toml", MARSH + 'reedligth = "*"\n')
        self.write("gull.list.toml", MARSH.replace("tarnholt", "tarnhold"))
        self.write("clash.list.toml", MARSH + 'drainworks = "*"\nsluicegate = "*"\n')
        self.write("full/mine.txt", "mine")
        self.write("notajar.jar", "hello")
        self.write("hostile.jar", jar({"../../x": "1"}))
        self.write("strange.zip", jar({"readme.txt": "1"}))
        self.write("empty/x", "")
        catalog = ("--catalog", CATALOG)
        make = ("provision", "marsh.list.toml", "d", *catalog)
        rows: tuple[tuple[tuple[object, ...], int, str, str], ...] = (
            (("frobnicate",), 2, "usage", "no command"),
            (("provison",), 2, "usage", "Did you mean 'provision'"),
            (("ps",), 2, "usage", "Did you mean 'list'"),
            (("remove", "d"), 2, "usage", "Did you mean 'delete'"),
            (("solve",), 2, "usage", "LIST"),
            (("solve", "nothing.list.toml"), 2, "no-such-file", "nothing.list.toml"),
            (("solve", "full"), 2, "no-archives", "folder of archives"),
            (("solve", "marsh.list.toml"), 2, "no-catalog-named", "--catalog"),
            (("solve", "near.list.toml", *catalog), 3, "unknown-content", "similar: reedlight"),
            (("solve", "gull.list.toml", *catalog), 2, "unknown-game", "similar: tarnholt"),
            (("solve", "clash.list.toml", *catalog), 3, "no-solution", "conflicts with"),
            (("solve", "marsh.list.toml", "--catalog", "http://127.0.0.1:9"), 5, "catalog-unreachable", "refused"),
            (("solve", "marsh.list.toml", "--catalog", "empty"), 5, "no-catalog", "catalog build"),
            (("solve", "marsh.list.toml", *catalog, "-o", "/proc/no/lock.json"), 1, "file-trouble", "lock"),
            (("provision", "marsh.list.toml", "full", *catalog), 1, "folder-not-ours", "full"),
            (("provision", "marsh.list.toml", "full/mine.txt", *catalog), 1, "not-a-folder", "mine.txt"),
            ((*make, "--set", "max_playrs=2"), 2, "bad-setting", "max_players"),
            ((*make, "--set", "pvp"), 2, "usage", "NAME=VALUE"),
            ((*make, "--memory", "much"), 2, "usage", "1536M or 1.5G"),
            ((*make, "--memory", "0.3G"), 2, "usage", "whole number of MiB"),
            ((*make, "--memory", "4095G"), 1, "memory-short", "4193280 of heap"),
            ((*make, "--set", "password=x"), 2, "bad-setting", "--secret"),
            (
                ("provision", "marsh.list.toml", "d", *catalog, "--secret", "pasword=marsh.list.toml"),
                2,
                "bad-setting",
                "password",
            ),
            (
                ("provision", "marsh.list.toml", "d", *catalog, "--secret", "password=nothing"),
                2,
                "no-such-file",
                "nothing",
            ),
            ((*make, "--port", "game=70000"), 2, "usage", "65535"),
            (("run", "full"), 1, "no-instance", "full"),
            (("check", "nowhere"), 2, "no-such-server", "nowhere"),
            (("check", "./nowhere"), 1, "no-instance", "nowhere"),
            (("inspect", "nowhere"), 2, "no-such-file", "nowhere"),
            (("inspect", "empty"), 2, "no-archives", "folder"),
            (("catalog", "build", "nowhere"), 2, "no-such-folder", "nowhere"),
            (("catalog", "serve", "full"), 2, "no-catalog", "catalog build"),
            (("game", "show", "tarnhlt"), 2, "unknown-game", "tarnholt"),
            (("game", "check", "marsh.list.toml"), 2, "bad-document", "another kind"),
            (("completion", "csh"), 2, "usage", "csh"),
        )
        before = sorted(self.folder.rglob("*"))
        hints: set[str] = set()
        for arguments, code, name, words in rows:
            with self.subTest(arguments=arguments):
                done = self.rhizon(*arguments, "--json")
                self.assertEqual((done.code, done.error["code"]), (code, name), done.out)
                self.assertIn(
                    words, " ".join(done.error.get("details", [])) + done.error["message"] + done.error["hint"]
                )
                self.assertTrue(done.error["hint"])
                hints.add(hinted(done.error["hint"]))
        after = [one for one in sorted(self.folder.rglob("*")) if "state" not in one.relative_to(self.folder).parts]
        self.assertEqual(after, [one for one in before if one.name != "state"])
        self.assertGreater(len(hints), 8)
        for hint in sorted(hints - {""}):  # each works as typed
            with self.subTest(hint=hint):
                self.assertIn(self.rhizon(*shlex.split(hint)[1:], within=20).code, (0, 1))

    def test_for_people_the_same_in_words(self) -> None:
        done = self.rhizon("solve", "nothing.list.toml")
        self.assertRegex(done.err, r"\Aerror: .*nothing\.list\.toml\nhint: .+\n\Z")
        self.assertEqual((done.out, done.code), ("", 2))

    def test_a_strange_archive_is_a_finding(self) -> None:
        self.write("strange.zip", jar({"readme.txt": "1"}))
        self.write("broken.jar", jar({"keel/about.json": "{"}))
        done = self.rhizon("inspect", "strange.zip", "--json")
        self.assertEqual((done.code, done.json["findings"][0]["code"]), (0, "metadata-missing"))
        for name, data, code in (
            ("broken.jar", jar({"keel/about.json": "{"}), "metadata-broken"),
            ("notajar.jar", "not a jar", "a-text"),
            ("empty.jar", "", "empty-file"),
            ("page.jar", "<!DOCTYPE html><html><head><title>Sign in</title></head>", "web-page"),
            ("gone.zip", b"\x1f\x8b\x08 and so on", "other-archive"),
            ("cut.jar", jar({"a/B.class": "x" * 900})[:90], "archive-cut-off"),
            ("noise.jar", bytes(range(256)) * 9, "archive-unreadable"),
            ("holds.zip", jar({"mods/a.jar": jar({"x": "1"})}), "holds-archives"),
            ("sources.jar", jar({"a/B.java": "class B {}"}), "source-archive"),
            ("hostile.jar", jar({"../../evil": "x"}), "archive-hostile"),
            ("native.dll", "MZ and no more", "no-assembly"),
        ):
            self.write(name, data)
            done = self.rhizon("inspect", name, "--json")
            told = done.json["findings"][0]
            self.assertEqual((done.code, told["code"]), (int(told["severity"] == "error"), code))


@not_fast
class WrongDocuments(Case):
    """Each wrong document where the program meets it; in-process tests have the whole table."""

    def test_what_people_write(self) -> None:
        names = {"game": "x.game.toml", "list": "x.list.toml", "pack": "pack/rhizon-pack.toml", "lock": "x.lock.json"}
        for document in DOCUMENTS:
            if document.name not in names:
                continue
            for what, change, words in (*ALWAYS[:3], *WRONG[document.name][-3:]):
                text = made_wrong(document, change)
                if document.name == "lock" and text.lstrip()[:1] != b"{":
                    continue  # without its first brace it is read as a list
                with self.subTest(document=document.name, what=what):
                    file = self.write(names[document.name], text)
                    done = self.rhizon("inspect", file if document.name != "pack" else file.parent)
                    self.assertEqual(done.code, 2, done.err)
                    self.assertRegex(done.err, words)
                    self.assertIn("hint: ", done.err)

    def test_what_a_catalog_holds(self) -> None:
        names = {
            "catalog": "catalog.json",
            "index": "tarnholt/items.json",
            "host-files": "tarnholt/host.json",
            "item": "tarnholt/items/lanternfish.json",
        }
        self.write("marsh.list.toml", MARSH)
        for document in DOCUMENTS:
            if document.name in names:
                with self.subTest(document.name):
                    shutil.copytree(CATALOG, self.folder / document.name)
                    (self.folder / document.name / names[document.name]).write_bytes(made_wrong(document, ALWAYS[5][1]))
                    done = self.rhizon("solve", "marsh.list.toml", "--catalog", document.name)
                    self.assertEqual(done.code, 5, done.err)
                    self.assertIn(names[document.name], done.err)

    def test_what_an_instance_holds(self) -> None:
        for name in ("instance.toml", "lock.json", "inventory.json"):
            self.write(f"i/.rhizon/{name}", "")
        for name, document in (("instance.toml", "instance"), ("lock.json", "lock"), ("inventory.json", "inventory")):
            kind = next(one for one in DOCUMENTS if one.name == document)
            self.write(f"i/.rhizon/{name}", made_wrong(kind, ALWAYS[5][1]))
            done = self.rhizon("check", "i")
            self.assertEqual(done.code, 1)
            self.assertIn("is damaged", done.err)
            self.write(f"i/.rhizon/{name}", made_wrong(kind, lambda _document: None))


@unittest.skipUnless(java17(), NO_JAVA)
class Provisioning(Case):
    def test_what_stops_it_leaves_nothing_behind(self) -> None:
        self.write("marsh.list.toml", MARSH)
        self.write("late.list.toml", MARSH + '[target]\nruntime = "19"\n')
        self.write(
            "installer.list.toml", MARSH.replace("lanternfish", "ferrybell") + '[target]\nloader_build = "6.0.0"\n'
        )
        shutil.copytree(CATALOG, self.folder / "odd")
        victim = self.folder / "odd/archives/lanternfish-1.1.0.jar"
        victim.write_bytes(victim.read_bytes()[:-1] + b"x")
        rows = (
            (("late.list.toml", "d", "--catalog", CATALOG), 1, "no-runtime", "--runtime fetch"),
            (("marsh.list.toml", "d", "--catalog", "odd"), 4, "hash-mismatch", "lanternfish"),
            (("marsh.list.toml", "d", "--catalog", CATALOG, "--memory", "4000000"), 1, "memory-short", "MiB"),
            (("marsh.list.toml", "d", "--catalog", CATALOG, "--memory", "20"), 1, "memory-too-small", "96"),
            (("marsh.list.toml", "d", "--catalog", CATALOG, "--port", "gate=21999"), 2, "unknown-port", "game"),
            (("installer.list.toml", "d", "--catalog", CATALOG), 1, "installer-not-allowed", "--allow-installer"),
        )
        for arguments, code, name, words in rows:
            with self.subTest(name):
                done = self.rhizon("provision", *arguments, "--json")
                self.assertEqual((done.code, done.error["code"]), (code, name), done.out)
                self.assertIn(words, json.dumps(done.error))
                self.assertFalse((self.folder / "d").exists())
                self.assertEqual(self.rhizon("list", "--json").result["instances"], [])

    def test_the_licence_waits_for_a_person(self) -> None:
        arguments = ("provision", PACK, "d", "--catalog", CATALOG, "--set", "address=127.0.0.1")
        done = self.rhizon(*arguments)
        self.assertEqual(done.code, 1)
        self.assertIn("d/licence/terms.txt", done.err)
        self.assertTrue((self.folder / "d/mods/reedlight-2.1.0.jar").is_file())
        self.assertFalse((self.folder / "d/licence/answer.txt").exists())
        self.assertFalse((self.folder / "d/marsh.properties").exists())
        self.assertEqual(self.rhizon("run", "d", "--json").error["code"], "licence-pending")
        checked = self.rhizon("check", "d", "--json")
        self.assertEqual((checked.code, checked.json["findings"][0]["code"]), (1, "licence-pending"))
        self.assertEqual(self.rhizon(*arguments, "--accept-licence").code, 0)
        self.assertIn("answer = accepted", (self.folder / "d/licence/answer.txt").read_text())
        self.assertRegex((self.folder / "d/.rhizon/instance.toml").read_text(), r'accepted_at = "20\d\d-.*Z"')

    def test_solving_is_repeatable_and_dry_runs_write_nothing(self) -> None:
        first = self.rhizon("solve", LIST, "--catalog", CATALOG, "-o", "1.json", "--json")
        self.assertEqual(first.code, 0, first.err)
        self.rhizon("solve", LIST, "--catalog", CATALOG, "-o", "2.json")
        self.assertEqual((self.folder / "1.json").read_bytes(), (self.folder / "2.json").read_bytes())
        self.assertEqual(first.result["target"]["loader_build"], "3.1.0")
        self.assertEqual(first.json["findings"][0]["code"], "look-alike")
        dry = self.rhizon("provision", LIST, "d", "--catalog", CATALOG, "--dry-run", "--json")
        self.assertEqual((dry.code, dry.result["state"]), (0, "planned"))
        self.assertFalse((self.folder / "d").exists())

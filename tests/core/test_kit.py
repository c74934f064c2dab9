"""Kits for players: whether a folder fits, what stands for one, and the page's script, which must say the same."""

import json
import random
import shutil
import subprocess
import unicodedata
import unittest
from importlib import resources

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.kit.judge import (
    BLOCKING,
    Seen,
    SeenFile,
    judge,
    judge_loaded,
    mark_for,
    read_mark,
    stem,
    worth_hashing,
)
from rhizon.core.kit.listing import is_log, judge_log, parse_listing
from rhizon.core.kit.manifest import changed_pieces
from rhizon.core.kit.page import PageParts, changes_between, page_html
from rhizon.core.kit.readme import SYSTEMS, problem_words, readme
from rhizon.core.model.game_parts import PlayerLog
from rhizon.core.model.kit import KitManifest
from rhizon.core.version import Version
from tests import examples
from tests.core.kits import kit, mutilated, seen_of, sha

TEXTS: dict[str, str] = json.loads(resources.files("rhizon.page").joinpath("en.json").read_text("utf-8"))
KIT = kit()


def changed(seen: Seen, which: str, /, **facts: object) -> Seen:
    """The folder with another file in the place of one; with ``path=None`` without it."""
    files = []
    for one in seen.files:
        if one.path != which:
            files.append(one)
        elif facts.get("path", one.path) is not None:
            files.append(msgspec.structs.replace(one, **facts))
    return Seen(files=tuple(files), marks=seen.marks)


class Judging(unittest.TestCase):
    def kinds(self, seen: Seen, manifest: KitManifest = KIT) -> list[tuple[str, str]]:
        return [(one.kind, one.id or one.path) for one in judge(manifest, seen).problems]

    def test_one_thing_wrong(self) -> None:
        whole, top = seen_of(KIT), "Tarnholt/"
        jar = f"{top}mods/reedlight-1.1.jar"
        extra = {path: SeenFile(path=f"{top}{path}", size=5, sha256=sha(number)) for path, number in (
            ("mods/reedlight-1.0.jar", 200), ("mods/drainworks-1.0.jar", 201), ("mods/mine.jar", 400),
            ("mods/drainworks-7.jar", 401))}  # fmt: skip
        plate = f"{top}herds/004-longhorns/plate.txt"
        rows: list[tuple[str, Seen, list[tuple[str, str]]]] = [
            ("nothing", whole, []),
            ("lost", changed(whole, jar, path=None), [("missing", "reedlight")]),
            ("lost, but optional", changed(whole, f"{top}mods/chartroom-1.3.jar", path=None), []),
            ("cut short", changed(whole, jar, size=3, sha256=sha(301)), [("truncated", "reedlight")]),
            ("changed", changed(whole, jar, size=5000, sha256=sha(301)), [("changed", "reedlight")]),
            ("another release", changed(whole, jar, sha256=sha(200)), [("other-release", "reedlight")]),
            ("moved", changed(whole, jar, path=f"{top}reedlight-1.1.jar"), [("wrong-folder", "reedlight")]),
            ("renamed", changed(whole, jar, path=f"{top}mods/lamps.jar"), []),
            ("other capitals", changed(whole, jar, path=jar.upper()), []),
            ("not read", changed(whole, jar, sha256=None), [("unknown", "reedlight")]),
            ("twice", Seen(files=(*whole.files, extra["mods/reedlight-1.0.jar"]), marks=whole.marks),
             [("two-releases", "reedlight")]),
            ("a clash", Seen(files=(*whole.files, extra["mods/drainworks-1.0.jar"]), marks=whole.marks),
             [("clash", "drainworks")]),
            ("a clash by its name", Seen(files=(*whole.files, extra["mods/drainworks-7.jar"]), marks=whole.marks),
             [("clash", "drainworks")]),
            ("one of their own", Seen(files=(*whole.files, extra["mods/mine.jar"]), marks=whole.marks), []),
            ("settings", changed(whole, f"{top}config/lamps.txt", sha256=sha(302)),
             [("settings-differ", "config/lamps.txt")]),
            ("no loader", Seen(files=tuple(one for one in whole.files if "hull" not in one.path), marks={}),
             [("no-loader", "")]),
            ("another build", Seen(files=whole.files, marks=whole.marks | {f"{top}hull/about.txt": ("keelson", "3.0")}),
             [("wrong-loader", "")]),
            ("another game", Seen(files=whole.files, marks=whole.marks | {f"{top}tarnholt.txt": ("", "4.1")}),
             [("wrong-game", "")]),
            ("another game that speaks the same",
             Seen(files=whole.files, marks=whole.marks | {f"{top}tarnholt.txt": ("", "4.2.1")}), []),
            ("a folder of another release", Seen(files=whole.files, marks=whole.marks | {plate: ("longhorns", "1.1")}),
             [("other-release", "longhorns")]),
            ("a folder not whole", changed(whole, f"{top}herds/004-longhorns/kine/breed.dat", path=None),
             [("truncated", "longhorns")]),
            ("a clash of folders",
             Seen(files=whole.files, marks=whole.marks | {f"{top}herds/w/plate.txt": ("wolves", "2.0")}),
             [("clash", "wolves")]),
        ]  # fmt: skip
        for name, seen, expected in rows:
            with self.subTest(name):
                self.assertEqual(self.kinds(seen), expected)
                blocked = any(kind in BLOCKING for kind, _ in expected)
                unsure = any(kind == "unknown" for kind, _ in expected)
                verdict = judge(KIT, seen).verdict
                self.assertEqual(verdict, "no" if blocked else "unknown" if unsure else "yes")
                for one in judge(KIT, seen).problems:
                    what, step = problem_words(TEXTS, one)
                    self.assertNotIn("{", what + step)
        strict = kit(strict=True)
        mine = Seen(files=(*whole.files, extra["mods/mine.jar"]), marks=whole.marks)
        self.assertEqual([kind for kind, _ in self.kinds(mine, strict)], ["not-allowed"])
        self.assertEqual(self.kinds(whole, strict), [])

    def test_wherever_the_folder_is(self) -> None:
        for top in ("", "x/", "a/b/c/", "C:\\Games\\Tarnholt\\", "Spiele von Åse/"):
            with self.subTest(top):
                self.assertEqual(judge(KIT, seen_of(KIT, top)).verdict, "yes")
        apart = unicodedata.normalize("NFD", "Åse/")
        self.assertEqual(judge(KIT, seen_of(KIT, apart)).verdict, "yes")
        mods = Seen(files=tuple(one for one in seen_of(KIT).files if "mods/" in one.path))
        self.assertNotIn("missing", [k for k, name in self.kinds(mods) if name in ("reedlight", "otterden")])
        self.assertEqual(judge(KIT, Seen(files=())).verdict, "no")

    @given(st.lists(st.tuples(st.text(max_size=30), st.integers(0, 2000)), max_size=20))
    def test_any_folder(self, files: list[tuple[str, int]]) -> None:
        seen = Seen(files=tuple(SeenFile(path=path, size=size) for path, size in files))
        self.assertEqual(judge(KIT, seen).verdict, "no")
        self.assertLessEqual(set(worth_hashing(KIT, files)), {path for path, _ in files})

    def test_marks_and_names(self) -> None:
        pattern = KIT.versions["template"].pattern
        self.assertEqual(read_mark(pattern, "title: x\r\nherd: a\nversion: 2\nherd: b\n"), ("a", "2"))
        self.assertIsNone(read_mark(pattern, "herd: a\n"))
        self.assertEqual(mark_for(KIT, "x\\HERDS\\a\\Plate.txt"), pattern)
        self.assertIsNone(mark_for(KIT, "x/plates.txt"))
        for name, expected in (("mods/Reed-Light-2.1.0.jar", "reed-light"), ("a_v2.jar", "a"), ("b.jar", "b")):
            self.assertEqual(stem(name), expected)

    def test_the_client_says_what_it_loaded(self) -> None:
        good = {"reedlight": ["1.1"], "otterden": ["1.2"], "longhorns": ["1.4"], "abbeyford": ["1.5"]}
        for loaded, loader, game, expected in (
            (good, "3.1.0", "4.2", []),
            (good, "", "4.2.1", []),
            (good, "3.0.2", "4.1", ["wrong-game", "wrong-loader"]),
            (good | {"reedlight": ["1.0"]}, "", "", ["other-release"]),
            (good | {"drainworks": ["1.0"]}, "", "", ["clash"]),
            ({}, "", "", ["missing"] * 4),
        ):
            self.assertEqual([one.kind for one in judge_loaded(KIT, loaded, loader, game).problems], expected)
        rule = PlayerLog(content=r"^carries (?P<id>\S+) (?P<version>\S+)$", game=r"^game (?P<version>\S+)$")
        logged = msgspec.structs.replace(KIT, log=rule)
        before = "game 4.1\ncarries reedlight 1.0\n"
        now = "game 4.2\n" + "".join(f"carries {name} {version[0]}\n" for name, version in good.items())
        self.assertTrue(is_log(logged, now))
        self.assertFalse(is_log(logged, "nothing of it") or is_log(KIT, now))
        self.assertEqual(judge_log(logged, before + now).verdict, "yes")
        self.assertEqual(judge_log(logged, now + before).verdict, "no")


class Listings(unittest.TestCase):
    def test_forms(self) -> None:
        hashed = sha(1)
        ls = """total 8
./mods:
total 4
-rw-r--r-- 1 u g 1001 Nov 28 18:00 a b.jar
drwxr-xr-x 2 u g 4096 Nov 28  2025 sub
lrwxrwxrwx 1 u g 3 Nov 28 18:00 l -> a

./mods/sub:
-rw-r--r--. 1 u g 7 2026-11-28 18:00 x.jar
"""
        dir_s = r""" Volume in drive C

 Directory of C:\Games\mods

28/11/2026  06:00 PM    <DIR>          .
28/11/2026  06:00 PM             1,001 a b.jar
               1 File(s)          1,001 bytes
"""
        german = " Verzeichnis von C:\\mods\n\n28.11.2026  18:00    <DIR>  ..\n28.11.2026  18:00     1.001 a.jar\n"
        sums = f"{hashed}  mods/a b.jar\n{hashed.upper()} *mods/c.jar\n\\{hashed}  mods/d.jar\n"
        rows: dict[str, tuple[str, list[tuple[str, int | None, str | None]]]] = {
            "sha256sum": (sums, [(f"mods/{name}.jar", None, hashed) for name in ("a b", "c", "d")]),
            "ls -lR": (ls, [("./mods/a b.jar", 1001, None), ("./mods/sub/x.jar", 7, None)]),
            "dir /s": (dir_s, [("C:\\Games\\mods/a b.jar", 1001, None)]),
            "dir in German": (german, [("C:\\mods/a.jar", 1001, None)]),
            "names": ("mods/a.jar\n./mods/b.jar\nmods/\n\n", [("mods/a.jar", None, None), ("mods/b.jar", None, None)]),
            "control codes": (f"{hashed}  \x1b[31mmods/a.jar\x1b[0m\x07\n", [("mods/a.jar", None, hashed)]),
        }
        for name, (text, expected) in rows.items():
            with self.subTest(name):
                found = [(one.path, one.size, one.sha256) for one in parse_listing(text).files]
                self.assertEqual(found, expected)

    @given(st.text(max_size=400))
    def test_any_text(self, text: str) -> None:
        for one in parse_listing(text).files:
            self.assertFalse(any(ord(letter) < 32 and letter != "\t" for letter in one.path), repr(one.path))


class Words(unittest.TestCase):
    def test_changes(self) -> None:
        old = msgspec.structs.replace(
            KIT, pieces=(msgspec.structs.replace(KIT.pieces[0], version=Version("0.9")), *KIT.pieces[2:])
        )
        partial, delete = changed_pieces(old, KIT)
        self.assertEqual([one.id for one in partial.pieces], ["otterden"])  # the files of the first are the same
        self.assertEqual((partial.loader, partial.overlay, delete), (None, (), ()))
        partial, delete = changed_pieces(KIT, old)
        self.assertEqual(delete, ("mods/otterden-1.2.jar",))
        self.assertEqual([one.name for one in changes_between(old, KIT)], ["page.change.new", "page.change.release"])
        self.assertEqual(changed_pieces(None, KIT), (KIT, ()))

    def test_instructions(self) -> None:
        text = readme(TEXTS, KIT, SYSTEMS, ["mods/old.jar"], partial=True)
        for part in (
            "Windows",
            "macOS",
            "Keelson 3.1.0",
            "mods/old.jar",
            "play.harbour.example:21640",
            "only what changed",
        ):
            self.assertIn(part, text)
        self.assertNotIn("{", text)

    def test_a_page_runs_nothing_but_its_own_script(self) -> None:
        evil = "</script><img src=x onerror=alert(1)>\"'<!--"
        hostile = msgspec.structs.replace(
            KIT, title=evil, description=evil, contact=evil, join=evil, steps=(evil,),
            pieces=(msgspec.structs.replace(KIT.pieces[0], title=evil, summary=evil, packed=False,
                                            page="javascript:alert(1)"),),
        )  # fmt: skip
        scripts = {name: f"/* {name} */" for name in ("judge.js", "app.js", "worker.js", "sha256.js")}
        parts = PageParts(texts=TEXTS, scripts=scripts, style="p{}", qr="", kit_file="k.zip", date="2026-11-28")
        made = page_html(hostile, parts)
        self.assertNotIn("<img", made)
        self.assertNotIn('href="javascript', made)
        self.assertEqual(made.count("</script>"), 5)
        for word in ("http-equiv", "default-src 'none'", "connect-src 'self'"):
            self.assertIn(word, made)
        self.assertNotIn("unsafe-inline", made)

    def test_every_sentence_is_there(self) -> None:
        script = resources.files("rhizon.page").joinpath("app.js").read_text("utf-8")
        named = {f"problem.{kind}" for kind in (*BLOCKING, "unknown", "optional-differs", "settings-differ")}
        named |= {word for word in TEXTS if f'"{word}"' in script}
        self.assertLessEqual(named, set(TEXTS))


@unittest.skipUnless(shutil.which("node"), "node is not installed")
class TheSameInTheBrowser(unittest.TestCase):
    def test_vectors(self) -> None:
        """The page's script on folders with things gone wrong: every problem, word for word."""
        chance = random.Random(16)
        cases = []
        for _ in range(examples(600)):
            manifest = kit(strict=chance.random() < 0.3)
            seen = mutilated(manifest, chance)
            fit = judge(manifest, seen)
            worth = worth_hashing(manifest, [(one.path, one.size or 0) for one in seen.files])
            cases.append(
                {
                    "kit": msgspec.to_builtins(manifest, enc_hook=str),
                    "seen": msgspec.to_builtins(seen, enc_hook=str),
                    "fit": msgspec.to_builtins(fit, enc_hook=str),
                    "worth": worth,
                }
            )
        verdicts = [one["fit"]["verdict"] for one in cases]
        self.assertLessEqual({"yes", "no", "unknown"}, set(verdicts))
        code = resources.files("rhizon.page").joinpath("judge.js").read_text("utf-8")
        code += """
        const cases = JSON.parse(require("fs").readFileSync(0, "utf8"));
        const wrong = [];
        for (const one of cases) {
          const fit = judge(one.kit, one.seen);
          const worth = worthHashing(one.kit, one.seen.files.map((file) => [file.path, file.size || 0]));
          if (JSON.stringify(fit) !== JSON.stringify({ verdict: one.fit.verdict, base: one.fit.base,
              problems: one.fit.problems, wanted: one.fit.wanted })) wrong.push([fit, one.fit, one.seen]);
          if (JSON.stringify(worth) !== JSON.stringify(one.worth)) wrong.push([worth, one.worth]);
        }
        process.stdout.write(JSON.stringify([cases.length, wrong.length, wrong[0]]));
        """
        done = subprocess.run(
            ["node", "-e", code], input=json.dumps(cases), capture_output=True, text=True, timeout=120, check=True
        )
        self.assertEqual(json.loads(done.stdout), [len(cases), 0, None], done.stdout[:3000])


if __name__ == "__main__":
    unittest.main()

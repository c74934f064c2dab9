"""Archives: hostile ones are refused before a byte is unpacked; metadata is read by declaration, code by its format."""

import contextlib
import io
import json
import os
import struct
import unittest
import zipfile
from pathlib import Path

import msgspec
from hypothesis import given, settings
from hypothesis import strategies as st

from rhizon.core.archives.assembly import read_assembly
from rhizon.core.archives.assembly_set import assemblies_together
from rhizon.core.archives.bytecode import check_methods
from rhizon.core.archives.classes import archive_classes
from rhizon.core.archives.classfile import ClassFileError, java_major, parse_class
from rhizon.core.archives.deep import every_class
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.evidence import Evidence
from rhizon.core.archives.facts import ArchiveFacts, read_facts
from rhizon.core.archives.judge_together import judge_together
from rhizon.core.archives.metadata import READERS, MetadataError
from rhizon.core.archives.metadata.flat import main_attributes
from rhizon.core.archives.notation import read_range
from rhizon.core.archives.scan import Scanned, client_namespaces, runtime_range, scan
from rhizon.core.archives.spelling import read_id, read_version
from rhizon.core.archives.together import together
from rhizon.core.errors import TrustError
from rhizon.core.model.metadata import FieldRule, MetadataRule, RangeNotation
from rhizon.core.names import ID_PATTERN, RelPath
from rhizon.core.version import parse_version
from tests import examples
from tests.support import CATALOG, TARNHOLT, jar

HAPPENED = Path(__file__).parents[1] / "placement"


def special(name: str, mode: int = 0, flag: int = 0, data: bytes = b"x", size: int | None = None) -> bytes:
    """A zip with one entry that zipfile itself would not write."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as made:
        info = zipfile.ZipInfo("placeholder")
        info.external_attr = mode << 16
        made.writestr(info, data)
    raw = bytearray(out.getvalue())
    central = raw.index(b"PK\x01\x02")
    raw[central + 8 : central + 10] = struct.pack("<H", flag)
    if size is not None:
        raw[central + 24 : central + 28] = struct.pack("<I", size)
    encoded = name.encode().ljust(11, b"_")[:11]
    return bytes(raw).replace(b"placeholder", encoded)


HOSTILE = (
    ("leaves its folder", jar({"../x": "1"}), "archive-hostile"),
    ("absolute", jar({"/etc/x": "1"}), "archive-hostile"),
    ("drive letter", jar({"C:/x": "1"}), "archive-hostile"),
    ("backslash", special("a\\..\\..\\bbb"), "archive-hostile"),
    ("device", jar({"mods/aux.txt": "1"}), "archive-hostile"),
    ("case clash", jar({"Mods/a.txt": "1", "mods/A.txt": "2"}), "archive-hostile"),
    ("escape codes", jar({"a\x1b[2J": "1"}), "archive-hostile"),
    ("symbolic link", special("linked_____", mode=0o120777, data=b"/etc"), "archive-hostile"),
    ("encrypted", special("secret_____", flag=1), "archive-encrypted"),
    ("bomb", jar({"zeros": b"\0" * (30 << 20)}), "archive-bomb"),
    ("a size that lies", special("lies_______", size=9 << 30 & 0xFFFFFFFF | 0xF0000000), "archive-bomb"),
    ("empty", b"", "archive-unreadable"),
    ("no zip", b"<html>not found</html>", "archive-unreadable"),
    ("cut short", jar({"a": "1" * 100})[:-30], "archive-unreadable"),
)


class Entries(unittest.TestCase):
    def test_hostile_ones_are_refused(self) -> None:
        for what, data, code in HOSTILE:
            with self.subTest(what):
                with self.assertRaises(TrustError) as caught:
                    Archive(data, "it.jar")
                self.assertEqual(caught.exception.code, code)
                self.assertIn("it.jar", caught.exception.message)

    def test_a_damaged_entry_is_found_when_it_is_read(self) -> None:
        raw = bytearray(jar({"a.txt": b"some text that deflates " * 20}))
        raw[45] ^= 0xFF
        archive = Archive(bytes(raw), "it.jar")
        with self.assertRaises(TrustError) as caught:
            archive.read("a.txt")
        self.assertEqual(caught.exception.code, "archive-unreadable")

    def test_an_honest_one(self) -> None:
        archive = Archive(jar({"b/c.txt": "2", "a.txt": "1", "b/": ""}), "it.jar")
        self.assertEqual(list(archive.files()), [("a.txt", b"1"), ("b/c.txt", b"2")])
        with self.assertRaises(TrustError):
            archive.read("a.txt", most=0)

    @settings(max_examples=examples(150))
    @given(st.data())
    def test_any_bytes_are_an_archive_or_a_trust_error(self, data: st.DataObject) -> None:
        raw = bytearray(
            jar({"keel/about.json": b'{"id": "a", "version": "1"}', "A.class": b"\xca\xfe\xba\xbe" + b"\0" * 9})
        )
        for _ in range(data.draw(st.integers(1, 4))):
            raw[data.draw(st.integers(0, len(raw) - 1))] = data.draw(st.integers(0, 255))
        try:
            scan(Archive(bytes(raw[: data.draw(st.integers(0, len(raw)))]), "x"), [TARNHOLT])
        except TrustError as wrong:
            self.assertTrue(wrong.hint)


def about(**fields: object) -> bytes:
    return msgspec.json.encode({"id": "a", "version": "1", "form": 2} | fields)


PLATE = '<plate id="a" version="1" where="server" gunwale="&gt;=5"><need id="b" range="&gt;=2"/></plate>'
CLASS_21 = b"\xca\xfe\xba\xbe\0\0\0\x41" + b"\0" * 8

# entries -> what the facts must hold, or the code of the finding where there are none
FACTS: tuple[tuple[str, dict[str, bytes | str], dict[str, object] | str], ...] = (
    ("defaults", {"keel/about.json": about()}, {"id": "a", "placement": "shared", "kind": "mod"}),
    ("player", {"keel/about.json": about(side="player")}, {"placement": "player"}),
    ("xml", {"gunwale-plate.xml": PLATE}, {"placement": "server"}),
    (
        "a plugin's manifest",
        {"META-INF/MANIFEST.MF": "Hull-Id: a\nHull-Version: 1\nHull-Needs: b@[1,2);c\n\n"},
        {"kind": "plugin", "placement": "server", "placement_said": False},
    ),
    ("a manifest without an id", {"META-INF/MANIFEST.MF": "Built-By: me\n\n"}, "metadata-missing"),
    ("none", {"readme.txt": "hello"}, "metadata-missing"),
    ("not json", {"keel/about.json": "{"}, "metadata-broken"),
    ("deep json", {"keel/about.json": "[" * 100_000}, "metadata-broken"),
    ("no id", {"keel/about.json": b'{"version": "1"}'}, "metadata-broken"),
    ("bad id", {"keel/about.json": about(id="../../x")}, "metadata-broken"),
    ("bad version", {"keel/about.json": about(version="!")}, "metadata-broken"),
    ("bad range", {"keel/about.json": about(tarnholt="~4")}, "metadata-broken"),
    ("bad side", {"keel/about.json": about(side="left")}, "metadata-broken"),
    ("an array", {"keel/about.json": b"[]"}, "metadata-broken"),
    ("entity bomb", {"gunwale-plate.xml": "<!DOCTYPE a [<!ENTITY b 'c'>]><plate/>"}, "metadata-broken"),
    ("not xml", {"gunwale-plate.xml": "<plate"}, "metadata-broken"),
    ("too long", {"keel/about.json": os.urandom(1 << 20)}, "metadata-broken"),
)


class Facts(unittest.TestCase):
    def read(self, entries: dict[str, bytes | str]) -> tuple[ArchiveFacts | None, list[str]]:
        facts, findings = read_facts(Archive(jar(entries), "it.jar"), TARNHOLT)
        return facts, [one.code for one in findings]

    def test_rows(self) -> None:
        for what, entries, expected in FACTS:
            with self.subTest(what):
                facts, codes = self.read(entries)
                if isinstance(expected, str):
                    self.assertEqual((facts, codes), (None, [expected]))
                else:
                    self.assertEqual(codes, [])
                    self.assertEqual({name: getattr(facts, name) for name in expected}, expected)

    def test_two_loaders_in_one_archive(self) -> None:
        facts, codes = self.read({"keel/about.json": about(keelson=">=3"), "gunwale-plate.xml": PLATE})
        assert facts is not None
        self.assertEqual({name: one.text for name, one in facts.loaders.items()}, {"keelson": ">=3", "gunwale": ">=5"})
        self.assertEqual(codes, [])
        _, codes = self.read({"keel/about.json": about(id="other"), "gunwale-plate.xml": PLATE})
        self.assertEqual(codes, ["metadata-clash"])

    def test_relations_of_the_shipped_archives(self) -> None:
        facts, findings = read_facts(Archive((CATALOG / "archives/eelmarket-1.6.0.jar").read_bytes(), "e"), TARNHOLT)
        assert facts is not None
        self.assertEqual(findings, [])
        self.assertEqual(
            [(one.id, one.range.text) for one in facts.requires], [("marshlib", ">=2.3, <3"), ("tallybook", ">=1")]
        )


def whole(entries: dict[str, bytes | str], name: str = "it.jar") -> Scanned:
    return scan(Archive(jar(entries), name), [TARNHOLT])


CLASS_25 = CLASS_21[:7] + b"\x45" + CLASS_21[8:]
MULTI = {"META-INF/MANIFEST.MF": "Multi-Release: true\n\n"}
CLASSES: tuple[tuple[str, dict[str, bytes | str], int | None], ...] = (
    ("code", {"a/B.class": CLASS_21}, 21),
    (
        "of later releases",
        {"META-INF/versions/21/B.class": CLASS_21, **MULTI},
        None,
    ),
    (
        "of this release",
        {"META-INF/versions/17/B.class": CLASS_21, **MULTI},
        None,
    ),
    ("replaced", {"META-INF/versions/9/a/B.class": CLASS_25, "a/B.class": CLASS_21, **MULTI}, 21),
    (
        "said of an entry only",
        {
            "META-INF/versions/9/a/B.class": CLASS_25,
            "META-INF/MANIFEST.MF": "Manifest-Version: 1.0\n\nName: a/B.class\nMulti-Release: true\n\n",
        },
        None,
    ),
    ("of a release, not said", {"META-INF/versions/9/B.class": CLASS_21}, None),
    ("module", {"module-info.class": CLASS_21}, None),
    ("no class", {"B.class": b"\xca\xfe"}, None),
    ("carried", {"in/x.jar": jar({"B.class": CLASS_21})}, 21),
    ("carried and broken", {"in/x.jar": b"PK"}, None),
)


def without(data: bytes, path: str) -> bytes:
    """An archive without one of its files."""
    with zipfile.ZipFile(io.BytesIO(data)) as whole:
        return jar({name: whole.read(name) for name in whole.namelist() if name != path})


def in_one_set(files: dict[str, bytes]) -> dict[str, Scanned]:
    """The archives as they are beside each other on one server."""
    scanned = {name: scan(Archive(data, name), [TARNHOLT]) for name, data in files.items()}
    return judge_together(scanned, lambda name: archive_classes(Archive(files[name], name)), {"tarnholt": TARNHOLT})


class Code(unittest.TestCase):
    def test_majors(self) -> None:
        for class_major, java in ((45, 1), (52, 8), (55, 11), (61, 17), (65, 21), (69, 25)):
            self.assertEqual(java_major(class_major), java)
        for what, entries, major in CLASSES:
            with self.subTest(what):
                found = whole({"keel/about.json": about(), **entries})
                self.assertEqual(found.code.java_major, major)
                self.assertEqual(runtime_range(found).text, f">={major}" if major else "*")

    def test_verdicts_are_what_happens_on_the_real_jvm(self) -> None:
        """Archives of bench/placement/ with what happened to each when a server was started with it."""
        happened = json.loads((HAPPENED / "happened.json").read_text())
        seen = set()
        for name, facts in happened.items():
            with self.subTest(name):
                files = {
                    one.name: one.read_bytes() for one in HAPPENED.glob("*.jar") if one.stem in (name, f"{name}-lib")
                }
                judged = in_one_set(files)
                found = judged[f"{name}.jar"]
                evidence = found.code.evidence
                assert evidence is not None
                runs = facts["happened"] == "runs"
                refused = any(one.code == "entry-unusable" for one in found.findings)
                self.assertEqual("certain" if refused else evidence.verdict, facts["verdict"])
                self.assertNotIn((facts["verdict"], runs), {("certain", True), ("clean", False)})
                self.assertEqual(found.placement, "player" if evidence.verdict == "certain" else "shared")
                codes = {"certain": ["client-only-code"], "possible": ["client-code-reached"], "clean": []}
                expected = [*(["entry-unusable"] if refused else []), *codes[evidence.verdict]]
                self.assertEqual([one.code for one in found.findings], expected)
                if evidence.verdict != "clean":
                    self.assertTrue(evidence.chain[-1].startswith(evidence.client) and evidence.why)
                # what a library says matters only where it says that it is for players
                for library in (one for one in files if one.endswith("-lib.jar") and judged[one].placement != "player"):
                    bare = without(files[library], "keel/about.json")
                    beside = in_one_set({**files, library: bare})
                    self.assertEqual(beside[f"{name}.jar"].code.evidence, evidence, "the library says nothing itself")
                    self.check_library(judged[library], beside[library], evidence)
                    self.check_every_class(files[library], name)
                seen.add((facts["verdict"], runs))
        self.assertEqual(seen, {("certain", False), ("possible", False), ("possible", True), ("clean", True)})

    def check_library(self, described: Scanned, bare: Scanned, evidence: Evidence) -> None:
        """The verdict on a library beside the one archive that may use it."""
        self.assertEqual(described.code.evidence, bare.code.evidence)
        if bare.code.evidence is not None and bare.code.evidence.verdict == "possible":
            self.assertNotEqual(evidence.verdict, "clean")
            self.assertIn(bare.source, " ".join(bare.code.evidence.chain))
        self.assertEqual([one for one in bare.findings if one.code.startswith("client")], [])

    def check_every_class(self, library: bytes, name: str) -> None:
        """Each class by itself: what its source in bench/placement/patterns.py says."""
        found = every_class(archive_classes(Archive(library, name)), client_namespaces(TARNHOLT))
        expected = {
            **dict.fromkeys(("lib-interface-0", "lib-made-0", "lib-not-used-0", "lib-super-client-0"), (1, 0)),
            **dict.fromkeys(("lib-deep-0", "lib-super-verified-0", "lib-verified-0"), (2, 0)),
            **dict.fromkeys(("lib-called-0", "lib-called-calm-0", "lib-guarded-0"), (0, 1)),
        }
        self.assertEqual((found.unloadable_count, found.referring_count), expected.get(name, (0, 0)), name)
        self.assertTrue(all(one.client.startswith("tarnholt.client.") for one in (*found.unloadable, *found.referring)))

    @settings(max_examples=examples(200))
    @given(st.data())
    def test_any_bytes_are_a_class_or_an_error(self, data: st.DataObject) -> None:
        name = data.draw(st.sampled_from(["lambda-0", "record-0", "enumeration-0", "catch-type-0"]))
        archive = Archive((HAPPENED / f"{name}.jar").read_bytes(), name)
        raw = bytearray(archive.read(data.draw(st.sampled_from([n for n in archive.names() if n.endswith(".class")]))))
        for _ in range(data.draw(st.integers(1, 6))):
            raw[data.draw(st.integers(8, len(raw) - 1))] = data.draw(st.integers(0, 255))
        with contextlib.suppress(ClassFileError):
            parsed = parse_class(bytes(raw[: data.draw(st.integers(0, len(raw)))]))
            self.assertTrue(parsed.major)
            check_methods(parsed)
        if data.draw(st.integers(0, 9)) == 0:  # it takes long over what is none
            self.assertIsNone(read_assembly(bytes(raw)))

    def test_odd_archives(self) -> None:
        entry = about(entry="a.Gone")
        rows: tuple[tuple[dict[str, bytes | str], list[str]], ...] = (
            ({"keel/about.json": entry, "a/B.class": CLASS_21}, ["entry-missing"]),
            ({"keel/about.json": about(entry="a.B"), "a/B.class": CLASS_21}, ["class-broken"]),
            ({"keel/about.json": about(), "lib/x.so": "elf"}, ["native-code"]),
        )
        for entries, codes in rows:
            self.assertEqual([one.code for one in whole(entries).findings], codes)


class Together(unittest.TestCase):
    def test_what_archives_are_to_each_other(self) -> None:
        classes: dict[str, bytes | str] = {f"x/{name}.class": CLASS_21 for name in "ABC"}

        def one(**fields: object) -> dict[str, bytes | str]:
            return {"keel/about.json": about(**fields)}

        def carrying(version: str) -> dict[str, bytes | str]:
            return {"in/l.jar": jar({"keel/about.json": about(id="lib", version=version)})}

        plugin = {"META-INF/MANIFEST.MF": "Hull-Id: p\nHull-Version: 1\n\n"}
        rows: tuple[tuple[list[dict[str, bytes | str]], list[str]], ...] = (
            ([one(id="a"), one(id="b")], []),
            ([one(id="a"), one(id="a", version="2")], ["same-id"]),
            ([one(id="a") | classes, one(id="b") | classes], ["same-classes"]),
            ([one(id="a") | carrying("1"), one(id="b") | carrying("2")], ["embedded-versions"]),
            ([one(id="a", needs={"b": ">=2"}), one(id="b")], ["dependency-missing"]),
            ([one(id="a", needs={"b": ">=2"}), one(id="b", version="2")], []),
            ([one(id="a", needs={"lib": ">=1"}), one(id="b") | carrying("1")], []),
            ([one(id="peat-fires"), one(id="peatfires")], ["look-alike"]),
            ([one(id="a", twinhull="*"), {**plugin}], ["mods-and-plugins"]),
        )
        for archives, codes in rows:
            scanned = {f"{at}.jar": whole(entries, f"{at}.jar") for at, entries in enumerate(archives)}
            with self.subTest(codes):
                self.assertEqual([one.code for one in together(scanned, {"tarnholt": TARNHOLT})], codes)


class Assemblies(unittest.TestCase):
    """Built by samples/assemblies/build.sh."""

    def test_a_plugin_and_the_loader_that_it_was_built_against(self) -> None:
        folder = HAPPENED.with_name("assemblies")
        read = {name: read_assembly((folder / name).read_bytes()) for name in ("Lantern.dll", "Wickhost.dll")}
        plugin, loader = read["Lantern.dll"], read["Wickhost.dll"]
        assert plugin is not None and loader is not None
        self.assertEqual((plugin.name, plugin.version), ("Lantern", "2.1.0.0"))
        self.assertEqual(plugin.framework, ".NETFramework,Version=v4.7.2")
        self.assertIn(("Wickhost", "5.4.0.0"), [(one.name, one.version) for one in plugin.references])
        lamp = read_assembly((CATALOG / "archives/gloamwick/fireflies-2.0.0.dll").read_bytes())
        assert lamp is not None
        self.assertTrue(lamp.follows and not loader.follows, "only the lamp has a type that a loader makes objects of")
        self.assertIn("Lampwright", {one.assembly for one in lamp.uses})
        newer = msgspec.structs.replace(loader, version="6.0.0.0")
        for beside, codes in ((loader, []), (newer, ["assembly-version"])):
            found = assemblies_together({"Lantern.dll": plugin, "Wickhost.dll": beside})
            self.assertEqual([one.code for one in found], codes)
        whole = (folder / "Lantern.dll").read_bytes()
        for cut in range(0, len(whole), 97):
            found = read_assembly(whole[:cut])
            self.assertTrue(found is None or found.name in ("Lantern", ""), found)


SPELLED = (
    ("4.2.13.Final", "4.2.13+final"),
    ("1.2_3", "1.2.3"),
    ("1.8.0_292", "1.8.0.292"),
    ("1.2.3 beta 2", "1.2.3-beta.2"),
    ("2024-11-03", "2024.11.03"),
    ("2.0.0.M1", "2.0.0-m.1"),
    ("tide", "0-tide"),
    ("version 3", "3"),
    ("31.1-jre", "31.1-jre"),
)
IN_ORDER = (
    "tide",
    "1.2.3 alpha",
    "1.2.3-beta.2",
    "1.2.3 beta 10",
    "1.2.3",
    "1.2.3.Final",
    "1.2_4",
    "2024-9-3",
    "2024-11-03",
)


class Spelling(unittest.TestCase):
    def test_versions(self) -> None:
        for text, expected in SPELLED:
            self.assertEqual(read_version(text).text, expected, text)
        self.assertEqual(sorted(IN_ORDER, key=read_version), list(IN_ORDER))
        for text in ("", "${version}", "!", ">=1", "ü"):
            self.assertRaises(ValueError, read_version, text)

    @settings(max_examples=examples(300))
    @given(st.lists(st.sampled_from(["1", "2", ".", "-", "_", "+", "final", "GA", "beta", "v", " ", "x"]), max_size=8))
    def test_what_was_read_is_read_the_same_again(self, parts: list[str]) -> None:
        with contextlib.suppress(ValueError):
            version = read_version("".join(parts))
            self.assertEqual(read_version(version.text), version)

    def test_ids(self) -> None:
        for text, expected in (
            ("ReedLight", "reedlight"),
            ("club.harbour:Lamps", "club.harbour-lamps"),
            ("Mud!", "mud"),
        ):
            self.assertEqual(read_id(text), expected)
        for text in ("", "../x", "ß", "-"):
            self.assertRaises(ValueError, read_id, text)

    def test_a_version_that_is_not_there_is_the_manifest_s_or_the_file_name_s(self) -> None:
        manifest = {"META-INF/MANIFEST.MF": "Manifest-Version: 1.0\nImplementation-Version: 3.4\n\n"}
        for said, name, more, expected in (
            ("${version}", "reedlight-2.1.0 (1).jar", {}, "2.1.0"),
            ("${version}", "reedlight-2.1.0.jar", manifest, "3.4"),
            ("", "reedlight.jar", {}, "0"),
        ):
            archive = Archive(jar({"keel/about.json": about(id="ReedLight", version=said), **more}), name)
            facts = scan(archive, [TARNHOLT]).facts
            assert facts is not None
            self.assertEqual((facts.id, facts.written, facts.version.text), ("reedlight", "ReedLight", expected))

    @given(st.text(max_size=30))
    def test_any_text_is_a_version_of_ours_or_a_value_error(self, text: str) -> None:
        with contextlib.suppress(ValueError):
            found = read_version(text)
            self.assertEqual(parse_version(found.text), found)
        with contextlib.suppress(ValueError):
            self.assertRegex(read_id(text), ID_PATTERN)


class Notations(unittest.TestCase):
    def test_rows(self) -> None:
        rows: tuple[tuple[RangeNotation, str, str], ...] = (
            ("interval", "[1.2,2)", ">=1.2, <2"),
            ("interval", "(1,2]", ">1, <=2"),
            ("interval", "[1,)", ">=1"),
            ("interval", "(,2)", "<2"),
            ("interval", "[1.4]", "1.4"),
            ("interval", "1.4", "1.4"),
            ("interval", "(,)", "*"),
            ("minimum", "1.2", ">=1.2"),
            ("wildcard", "4.2.x", ">=4.2, <4.3"),
            ("wildcard", "4.2.1", "4.2.1"),
            ("comparators", "", "*"),
        )
        for notation, text, expected in rows:
            self.assertEqual(read_range(text, notation).text, expected)
        for notation, text in (("interval", "[1,2,3)"), ("interval", "[1"), ("wildcard", "a.x"), ("minimum", ">=1")):
            with self.assertRaises(ValueError):
                read_range(text, notation)  # type: ignore[arg-type]

    @given(st.sampled_from(["interval", "minimum", "wildcard"]), st.text(max_size=20))
    def test_any_text_is_a_range_or_a_value_error(self, notation: RangeNotation, text: str) -> None:
        with contextlib.suppress(ValueError):
            self.assertIsNotNone(read_range(text, notation))


class Formats(unittest.TestCase):
    def test_the_same_question_of_every_format(self) -> None:
        needs = FieldRule(each="needs", id="id", range="range")
        split = MetadataRule(file=RelPath("x"), format="json", id="id", version="version")
        rows = (
            ("json", b'{"id": "a", "n": 3, "needs": [{"id": "b", "range": ">=2"}, {"id": "c"}]}', "n", needs),
            ("toml", b'id = "a"\nn = 3\n[[needs]]\nid = "b"\nrange = ">=2"\n[[needs]]\nid = "c"\n', "n", needs),
            ("yaml", b"id: a\nn: 3\nneeds:\n- {id: b, range: '>=2'}\n- id: c\n", "n", needs),
            ("yaml", b"id: a\nn: 3\nneeds: b >=2; c\n", "n", "needs"),
            (
                "xml",
                b'<x id="a"><n>3</n><needs id="b" range="&gt;=2"/><needs id="c"/></x>',
                "n",
                FieldRule(each="needs", id="@id", range="@range"),
            ),
            ("properties", b"# x\nid=a\nn: 3\nneeds = b >=2;\\\n  c\n", "n", "needs"),
            ("manifest", b"Manifest-Version: 1.0\r\nId: a\r\nN: 3\r\nNeeds: b >=\r\n 2; c\r\n\r\n", "N", "Needs"),
        )
        self.assertEqual({row[0] for row in rows}, set(READERS))
        for name, data, number, rule in rows:
            with self.subTest(name):
                fields = READERS[name](data)  # type: ignore[index]
                self.assertEqual(fields.texts("@id" if name == "xml" else "id"), ["a"])
                self.assertEqual(fields.texts(number), ["3"])
                self.assertEqual(fields.texts("nothing"), [])
                self.assertEqual(fields.pairs(rule, split), [("b", ">=2"), ("c", "")])

    def test_values_that_are_not_there(self) -> None:
        rule = msgspec.structs.replace(
            TARNHOLT.loaders["keelson"].metadata[0],
            from_manifest={"version": "Built-Version"},
            absent={"kind": "lib"},
            kind_words={"lib": "library"},
        )
        keelson = msgspec.structs.replace(TARNHOLT.loaders["keelson"], metadata=(rule,))
        game = msgspec.structs.replace(TARNHOLT, loaders={"keelson": keelson})
        manifest = "Built-Version: 4.1\n\n"
        for version, expected in (("${version}", "4.1"), ("2", "2")):
            entries: dict[str, bytes | str] = {
                "keel/about.json": about(version=version),
                "META-INF/MANIFEST.MF": manifest,
            }
            facts, findings = read_facts(Archive(jar(entries), "it.jar"), game)
            assert facts is not None
            self.assertEqual((facts.version.text, facts.kind, findings), (expected, "library", []))

    @given(st.sampled_from(sorted(READERS)), st.binary(max_size=120))
    def test_any_bytes_are_fields_or_a_metadata_error(self, name: str, data: bytes) -> None:
        try:
            fields = READERS[name](data)  # type: ignore[index]
        except MetadataError:
            return
        self.assertIsInstance(fields.texts("id"), list)

    def test_bombs_of_aliases_are_refused(self) -> None:
        bomb = "a: &a [x, x]\n" + "".join(
            f"{b}: &{b} [*{a}, *{a}]\n" for a, b in zip("abcdefgh", "bcdefghi", strict=False)
        )
        with self.assertRaises(MetadataError):
            READERS["yaml"](bomb.encode())

    def test_a_manifest_ends_at_the_first_blank_line(self) -> None:
        self.assertEqual(main_attributes(b"A: 1\n\nName: x\nA: 2\n"), {"a": "1"})
        with self.assertRaises(MetadataError):
            main_attributes(b"no colon here\n")

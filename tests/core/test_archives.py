"""Archives: hostile ones are refused before a byte is unpacked; metadata is read by declaration."""

import io
import os
import struct
import unittest
import zipfile

import msgspec
from hypothesis import given, settings
from hypothesis import strategies as st

from rhizon.core.archives.classfile import highest_class_major, java_major
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.facts import ArchiveFacts, read_facts
from rhizon.core.archives.metadata import READERS, MetadataError
from rhizon.core.archives.metadata.manifest import main_attributes
from rhizon.core.errors import TrustError
from rhizon.core.model.game import FieldRule
from tests.support import CATALOG, TARNHOLT, jar


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

    @settings(max_examples=150)
    @given(st.data())
    def test_any_bytes_are_an_archive_or_a_trust_error(self, data: st.DataObject) -> None:
        raw = bytearray(
            jar({"keel/about.json": b'{"id": "a", "version": "1"}', "A.class": b"\xca\xfe\xba\xbe" + b"\0" * 9})
        )
        for _ in range(data.draw(st.integers(1, 4))):
            raw[data.draw(st.integers(0, len(raw) - 1))] = data.draw(st.integers(0, 255))
        try:
            read_facts(Archive(bytes(raw[: data.draw(st.integers(0, len(raw)))]), "x"), TARNHOLT)
        except TrustError as wrong:
            self.assertTrue(wrong.hint)


def about(**fields: object) -> bytes:
    return msgspec.json.encode({"id": "a", "version": "1", "form": 2} | fields)


PLATE = '<plate id="a" version="1" where="server" gunwale="&gt;=5"><need id="b" range="&gt;=2"/></plate>'
CLASS_21 = b"\xca\xfe\xba\xbe\0\0\0\x41" + b"\0" * 8

# entries -> what the facts must hold, or the code of the finding where there are none
FACTS: tuple[tuple[str, dict[str, bytes | str], dict[str, object] | str], ...] = (
    ("defaults", {"keel/about.json": about()}, {"id": "a", "placement": "shared", "kind": "mod", "java_major": None}),
    ("player", {"keel/about.json": about(side="player")}, {"placement": "player"}),
    ("xml", {"gunwale-plate.xml": PLATE}, {"placement": "server"}),
    ("code", {"keel/about.json": about(), "a/B.class": CLASS_21}, {"java_major": 21}),
    (
        "other releases' code",
        {"keel/about.json": about(), "META-INF/versions/21/B.class": CLASS_21},
        {"java_major": None},
    ),
    ("module", {"keel/about.json": about(), "module-info.class": CLASS_21}, {"java_major": None}),
    ("no class", {"keel/about.json": about(), "B.class": b"\xca\xfe"}, {"java_major": None}),
    ("none", {"readme.txt": "hello"}, "metadata-missing"),
    ("not json", {"keel/about.json": "{"}, "metadata-broken"),
    ("deep json", {"keel/about.json": "[" * 100_000}, "metadata-broken"),
    ("no id", {"keel/about.json": b'{"version": "1"}'}, "metadata-broken"),
    ("bad id", {"keel/about.json": about(id="../../x")}, "metadata-broken"),
    ("bad version", {"keel/about.json": about(version="new")}, "metadata-broken"),
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
        self.assertEqual(facts.java_major, 17)

    def test_class_majors(self) -> None:
        for class_major, java in ((45, 1), (52, 8), (55, 11), (61, 17), (65, 21), (69, 25)):
            self.assertEqual(java_major(class_major), java)
        newer = Archive((CATALOG / "archives/otterden-3.0.0.jar").read_bytes(), "o")
        self.assertEqual(highest_class_major(newer), 65)


class Formats(unittest.TestCase):
    def test_the_same_question_of_every_format(self) -> None:
        needs = FieldRule(each="needs", id="id", range="range")
        rows = (
            ("json", b'{"id": "a", "n": 3, "needs": [{"id": "b", "range": ">=2"}, {"id": "c"}]}', "n", needs),
            ("toml", b'id = "a"\nn = 3\n[[needs]]\nid = "b"\nrange = ">=2"\n[[needs]]\nid = "c"\n', "n", needs),
            (
                "xml",
                b'<x id="a"><n>3</n><needs id="b" range="&gt;=2"/><needs id="c"/></x>',
                "n",
                FieldRule(each="needs", id="@id", range="@range"),
            ),
            ("manifest", b"Manifest-Version: 1.0\r\nId: a\r\nN: 3\r\nNeeds: b >=\r\n 2; c\r\n\r\n", "N", "Needs"),
        )
        self.assertEqual({row[0] for row in rows}, set(READERS))
        for name, data, number, rule in rows:
            with self.subTest(name):
                fields = READERS[name](data)
                self.assertEqual(fields.text("@id" if name == "xml" else "id"), "a")
                self.assertEqual(fields.text(number), "3")
                self.assertEqual(fields.text("nothing"), "")
                self.assertEqual(fields.pairs(rule), [("b", ">=2"), ("c", "*")])

    @given(st.sampled_from(sorted(READERS)), st.binary(max_size=120))
    def test_any_bytes_are_fields_or_a_metadata_error(self, name: str, data: bytes) -> None:
        try:
            fields = READERS[name](data)
        except MetadataError:
            return
        self.assertIsInstance(fields.text("id"), str)

    def test_a_manifest_ends_at_the_first_blank_line(self) -> None:
        self.assertEqual(main_attributes(b"A: 1\n\nName: x\nA: 2\n"), {"a": "1"})
        with self.assertRaises(MetadataError):
            main_attributes(b"no colon here\n")

"""Bounds: on text that strangers write, on archives, on memory; and secrets that nothing prints."""

import importlib
import json
import pickle
import pkgutil
import random
import re
import types
import typing
import unittest
import zlib
from collections.abc import Iterator

import msgspec
from hypothesis import given
from hypothesis import strategies as st

import rhizon
from rhizon.core.allocate.memory import HostMemory
from rhizon.core.archives.entries import Archive, Budget, MemoryBytes
from rhizon.core.errors import TrustError
from rhizon.core.model.decode import encode_json, encode_line
from rhizon.core.secret import HIDDEN, Secret
from rhizon.core.text_limits import MOST_DEEP, MOST_DIGITS, Language, TextLimitError, bounded
from tests.support import jar

DEEP = MOST_DEEP + 1
BEYOND: tuple[tuple[Language, str], ...] = (
    ("json", "[" * DEEP),
    ("json", '{"a":' * DEEP + "1" + "}" * DEEP),
    ("json", "1" * (MOST_DIGITS + 2)),
    ("json", '"\\"' + "[" * DEEP + '"' + "[" * DEEP),
    ("toml", "a = " + "[" * DEEP),
    ("toml", "a = " + "1_0" * MOST_DIGITS),
    ("toml", 'a = """\\""""\nb = ' + "[" * DEEP),
    ("xml", "<a>" * DEEP),
    ("xml", "<a b='/'>" * DEEP),
    ("yaml", "a: " + "9" * (MOST_DIGITS + 2)),
)
WITHIN: tuple[tuple[Language, str], ...] = (
    ("json", "[" * MOST_DEEP + "]" * MOST_DEEP),
    ("json", "[{}]," * 5000),
    ("json", '"' + "[" * DEEP + '"'),
    ("json", '"' + "1" * 9999 + '"'),
    ("toml", "# " + "[" * DEEP),
    ("toml", "a = '" + "{" * DEEP + "'"),
    ("toml", 'a = """\n' + "[" * DEEP + '\n"""'),
    ("xml", "<a/>" * 5000),
    ("xml", "<!-- " + "<a>" * DEEP + " -->"),
    ("xml", "<![CDATA[" + "<a>" * DEEP + "]]>"),
    ("properties", "a=" + "[" * 5000),
)
BLOCK = random.Random(7).randbytes(8192)
SECRETIVE = re.compile(r"(^|_)(password|passphrase|token|secret)$")


def nested(one: st.SearchStrategy[object]) -> st.SearchStrategy[object]:
    return st.lists(one) | st.dictionaries(st.text(), one)


class Texts(unittest.TestCase):
    def test_beyond_and_within(self) -> None:
        for language, text in BEYOND:
            with self.subTest(language, text=text[:30]), self.assertRaises(TextLimitError):
                bounded(text, language)
        for language, text in WITHIN:
            with self.subTest(language, text=text[:30]):
                bounded(text, language)

    @given(
        st.recursive(st.none() | st.integers() | st.text(), lambda one: st.lists(one) | st.dictionaries(st.text(), one))
    )
    def test_no_honest_document_is_refused(self, document: object) -> None:
        bounded(json.dumps(document, indent=1), "json")

    @given(st.text(alphabet="[]{}\"'\\\n#<>/!-=a1", max_size=400), st.sampled_from(["json", "toml", "xml"]))
    def test_any_text_is_answered(self, text: str, language: Language) -> None:
        try:
            bounded(text * 8, language)
        except TextLimitError as refused:
            self.assertIn("deep", str(refused))


def overlapping() -> bytes:
    """A zip in whose directory two names lead to the same bytes."""
    raw = jar({"a.txt": zlib.compress(b"x" * 999), "b.txt": b"y"})
    first, second = (at.start() for at in re.finditer(b"PK\x01\x02", raw))
    return raw[: second + 42] + raw[first + 42 : first + 46] + raw[second + 46 :]


class Archives(unittest.TestCase):
    def test_bytes_that_are_shared(self) -> None:
        with self.assertRaises(TrustError) as caught:
            Archive(overlapping(), "it.jar")
        self.assertEqual(caught.exception.code, "archive-bomb")

    def test_a_budget_is_for_all_that_is_read(self) -> None:
        data = jar({f"{number}.txt": BLOCK * 512 for number in range(3)})
        archive = Archive(data, "it.jar", Budget("it.jar", len(data)))
        most = ((64 << 20) + 24 * len(data)) // (4 << 20)
        read = 0
        with self.assertRaises(TrustError) as caught:
            for read in range(most + 2):
                archive.read(f"{read % 3}.txt")
        self.assertEqual(caught.exception.code, "archive-costly")
        self.assertGreaterEqual(read, most - 1)

    def test_a_head_costs_little(self) -> None:
        asked = []

        class Counting(MemoryBytes):
            def read_at(self, offset: int, count: int) -> bytes:
                asked.append(count)
                return super().read_at(offset, count)

        raw = jar({"big.bin": bytes(range(256)) * 4096})
        archive = Archive(Counting(raw), "it.jar")
        asked.clear()
        self.assertEqual(archive.head("big.bin", 8), bytes(range(8)))
        self.assertLess(sum(asked), 1000)

    def test_a_method_that_is_not_known(self) -> None:
        raw = bytearray(jar({"a.txt": b"some text"}))
        for mark, offset in ((b"PK\x03\x04", 8), (b"PK\x01\x02", 10)):
            at = raw.index(mark) + offset
            raw[at : at + 2] = (77).to_bytes(2, "little")
        with self.assertRaises(TrustError):
            Archive(bytes(raw), "it.jar").read("a.txt")


class Memory(unittest.TestCase):
    @given(*[st.integers(0, 1 << 20)] * 2, st.none() | st.integers(0, 1 << 20), st.none() | st.integers(0, 1 << 20))
    def test_a_limit_of_servers_only_lowers(
        self, total: int, granted: int, reserve: int | None, most: int | None
    ) -> None:
        host = HostMemory(total_mib=total, granted_mib=granted, wanted_reserve_mib=reserve, servers_mib=most)
        free = HostMemory(total_mib=total, granted_mib=granted, wanted_reserve_mib=reserve)
        self.assertLessEqual(host.for_servers_mib, free.for_servers_mib)
        self.assertLessEqual(host.for_servers_mib, total)
        self.assertGreaterEqual(host.free_mib, 0)
        self.assertLessEqual(host.free_mib + min(granted, host.for_servers_mib), host.for_servers_mib)
        if most is not None:
            self.assertLessEqual(host.for_servers_mib, most)


def structs() -> Iterator[type[msgspec.Struct]]:
    """Every document and result of the program."""
    for module in pkgutil.walk_packages(rhizon.__path__, "rhizon."):
        if not module.name.endswith("__main__"):
            found = importlib.import_module(module.name)
            for one in vars(found).values():
                if isinstance(one, type) and issubclass(one, msgspec.Struct) and one.__module__ == module.name:
                    yield one


def holds_text(kind: object) -> bool:
    parts = typing.get_args(kind) if typing.get_origin(kind) in (typing.Union, types.UnionType) else (kind,)
    bare = (typing.get_args(one)[0] if typing.get_origin(one) is typing.Annotated else one for one in parts)
    return any(one is str for one in bare)


class Secrets(unittest.TestCase):
    def test_nothing_shows_one(self) -> None:
        secret = Secret("kelp-and-tar")
        shown = [str(secret), repr(secret), f"{secret}", f"{secret!r:>30}", str([secret]), str({1: secret})]
        self.assertFalse([text for text in shown if "kelp" in text])
        self.assertIn(HIDDEN, shown[0])
        for write in (pickle.dumps, encode_json, encode_line, json.dumps, msgspec.to_builtins):
            with self.subTest(write), self.assertRaises((TypeError, NotImplementedError)):
                write({"password": secret})  # type: ignore[operator]
        self.assertEqual(secret, Secret("kelp-and-tar"))
        self.assertNotEqual(secret, Secret("kelp"))

    def test_fields_that_hold_one_say_so_by_their_type(self) -> None:
        named = {}
        for one in structs():
            for name, kind in typing.get_type_hints(one, include_extras=True).items():
                if SECRETIVE.search(name):
                    named[f"{one.__name__}.{name}"] = holds_text(kind)
        self.assertTrue(named)
        self.assertEqual([name for name, text in named.items() if text], [])

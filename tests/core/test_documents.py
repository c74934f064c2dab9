"""Every document: its example is read, its schema agrees, and each wrong one says what is wrong."""

import copy
import importlib.util
import json
import re
import unittest
from pathlib import Path
from typing import Any

import jsonschema
import tomlkit
from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.errors import DocumentError
from rhizon.core.model.contentlist import ContentList
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import DOCUMENTS, Document, decode, schema
from rhizon.core.model.line_numbers import line_of, lines_of
from tests.core.wrong_documents import ALWAYS, EXAMPLES, WRONG, Change

DOCS = Path(__file__).parents[2] / "docs"


def written(document: Document, data: Any) -> bytes:
    """``data`` in the document's own syntax."""
    return (tomlkit.dumps(data) if document.syntax == "toml" else json.dumps(data)).encode()


def made_wrong(document: Document, change: Change) -> bytes:
    if isinstance(change, str):
        return change.encode()
    data = copy.deepcopy(EXAMPLES[document.name])
    change(data)
    return written(document, data)


class Documents(unittest.TestCase):
    def test_examples_are_read_and_fit_their_schema(self) -> None:
        for document in DOCUMENTS:
            with self.subTest(document.name):
                example = EXAMPLES[document.name]
                read = decode(document.type, written(document, example), document.name)
                jsonschema.validate(example, schema(document))
                if document.secret:
                    self.assertRaises(TypeError, encode_json, read)
                    continue
                again = json.loads(encode_json(read))
                jsonschema.validate(again, schema(document))
                if document.syntax == "json":
                    self.assertEqual(decode(document.type, encode_json(read), "again"), read)

    def test_wrong_ones_say_what_is_wrong(self) -> None:
        for document in DOCUMENTS:
            rows = (*ALWAYS, *WRONG[document.name])
            self.assertGreaterEqual(len(rows), 10, document.name)
            for what, change, words in rows:
                with self.subTest(document=document.name, what=what):
                    with self.assertRaises(DocumentError) as caught:
                        decode(document.type, made_wrong(document, change), "the-file")
                    error = caught.exception
                    self.assertEqual(error.exit_code, 2)
                    self.assertIn("the-file", error.message)
                    self.assertRegex("\n".join([error.message, *error.details]), words)

    def test_all_mistakes_at_once(self) -> None:
        data = copy.deepcopy(EXAMPLES["list"]) | {"game": 3, "channel": "x", "extra": 1}
        with self.assertRaises(DocumentError) as caught:
            decode(DOCUMENTS[1].type, written(DOCUMENTS[1], data), "x")
        places = {mistake.place for mistake in caught.exception.mistakes}
        self.assertLessEqual({"game", "channel", "extra"}, places)

    def test_all_broken_rules_of_a_definition_at_once(self) -> None:
        data = copy.deepcopy(EXAMPLES["game"])
        data["versions"] = [*data["versions"], data["versions"][0]]
        data["ports"] = [*data["ports"], data["ports"][0]]
        data["world"]["name_setting"] = "nothing"
        with self.assertRaises(DocumentError) as caught:
            decode(DOCUMENTS[0].type, written(DOCUMENTS[0], data), "x")
        told = [str(mistake) for mistake in caught.exception.mistakes]
        self.assertEqual(len(told), 3, told)
        self.assertTrue(
            all(any(word in one for one in told) for word in ("versions:", "ports:", "world.name_setting:"))
        )

    def test_schemas_are_current(self) -> None:
        spec = importlib.util.spec_from_file_location("make_schemas", DOCS / "make_schemas.py")
        assert spec is not None and spec.loader is not None
        module = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(module)
        there = {
            file.relative_to(DOCS / "schemas").as_posix(): file.read_text("utf-8")
            for file in (DOCS / "schemas").rglob("*.json")
        }
        self.assertEqual(there, module.texts(), "run: python docs/make_schemas.py")

    def test_worked_examples_of_the_docs_are_read(self) -> None:
        text = (DOCS / "formats.md").read_text("utf-8")
        found = set()
        for block in text.split("```")[1::2]:
            syntax, _, body = block.partition("\n")
            first = re.search(r"rhizon-([a-z-]+)/1", body)  # the document's own format comes before those inside it
            for document in DOCUMENTS:
                if syntax == document.syntax and first and first[1] == document.name:
                    with self.subTest(document.name):
                        decode(document.type, body.encode(), "docs/formats.md")
                        found.add(document.name)
        self.assertEqual(found, {document.name for document in DOCUMENTS})


JSONS = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3),
    max_leaves=8,
)


class AnyInput(unittest.TestCase):
    @given(st.binary(max_size=200))
    def test_any_bytes_are_a_document_or_a_document_error(self, data: bytes) -> None:
        for document in DOCUMENTS:
            with self.assertRaises(DocumentError):
                decode(document.type, data, "x")

    @given(st.sampled_from([one for one in DOCUMENTS if one.syntax == "json"]), st.data())
    def test_any_value_at_any_place(self, document: Document, data: st.DataObject) -> None:
        example = copy.deepcopy(EXAMPLES[document.name])
        place: Any = example
        while True:
            keys = sorted(place) if isinstance(place, dict) else list(range(len(place)))
            key = data.draw(st.sampled_from(keys)) if keys else None
            inner = place[key] if key is not None else None
            if not isinstance(inner, dict | list) or data.draw(st.booleans()):
                break
            place = inner
        if key is not None:
            place[key] = data.draw(JSONS)
        try:
            decode(document.type, json.dumps(example).encode(), "x")
        except DocumentError as wrong:
            self.assertTrue(wrong.mistakes)


class Lines(unittest.TestCase):
    def test_where_a_way_stands(self) -> None:
        text = """a = 1
b.c = 2
[t]  # one
x = { y = 1 }
[[t.many]]
k = 1
'q r' = [
  1,
]
[[t.many]]
k = 2
"z.z" = 3
["q.r".s]
v = 1
"""
        known = lines_of(text)
        rows = (
            *(("a", 1), ("b.c", 2), ("t.x.y", 4), ("t.many[0].k", 6), ("t.many[0].q r[2]", 7), ("t.many[1].k", 11)),
            *(("t.many[1].missing", 10), ("t.missing", 3), ("q.r.s.v", 14), ("nothing", None), ("nothing.of[3]", None)),
        )
        for way, line in rows:
            with self.subTest(way):
                self.assertEqual(line_of(known, way), line)

    def test_mistakes_in_what_people_write_have_lines(self) -> None:
        text = 'format = "rhizon-list/1"\nname = "x"\ngame = "tarnholt"\n\n[content]\nReed = "*"\neel = ">=two"\n'
        with self.assertRaises(DocumentError) as caught:
            decode(ContentList, text.encode(), "x.list.toml")
        self.assertRegex(str(caught.exception.mistakes[0]), r"^line [567], content")

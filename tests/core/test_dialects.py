"""The contract of every dialect: what is written is read, what an edit does not name keeps its bytes."""

import contextlib
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.settings.dialects import DIALECTS, Scalar, dialect_of
from rhizon.core.settings.dialects.arguments import argument_list

PROPERTIES = """\
# harbour
name = Low Tide

port: 21640
! end
pvp=no
"""
INI = """\
; harbour
loose=1
[Server]
; the sign
Name="Low Tide"
  Port = 21640
Name=again

[Empty]
[Rules]
Pvp=no"""
JSON = """\
{
  "name": "Low \\"Tide\\"",
  "net": {"port": 21640, "bind": "0.0.0.0"},
  "list": [1, {"deep": true}],
  "pvp": false,
  "none": null
}
"""
TOML = """\
# harbour
name = "Low Tide" # sign
pvp = false

[net]
port = 21_640
bind = "0.0.0.0"
"""
YAML = """\
# harbour
name: Low Tide # sign
net:
  port: 21640
  bind: '0.0.0.0'
list:
- one
- {deep: yes}
pvp: false
"""
XML = """\
<?xml version="1.0"?>
<!-- harbour -->
<server kind="x">
  <name>Low &amp; Tide</name>
  <net port='21640' bind="0"/>
  <entry name="pvp" value="no"/>
  <entry name="seed" value="7"/>
  <empty/>
</server>
"""
SEMICOLON = '''\
// harbour
name = "Low ""Tide""";  // sign
/* port = 1; */
port = 21640;
pvp = 0; far[] = {1, 2};
'''
LUA = """\
-- harbour
return { --[[ the club's ]]
  name = "Low Tide", -- sign
  ["the port"] = 21640;
  pvp = false, crew = { 'Aud', "Tove" },
  net = {
    bind = [[0.0.0.0]],
    wait = 60 * 5, -- seconds
    { deep = -0x1F },
  },
}
"""
JSONC = """\
// harbour
{
  "name": "Low \\"Tide\\"", // sign
  "net": {"port": 21640, /* open */ "bind": "0.0.0.0"},
  "crew": ["Aud", "Tove",],
  "pvp": false
}
"""
LINES = """\
# harbour
Marit

  Aud Olsen
"""
ARGUMENTS = """\
# harbour
--name=Low Tide
-port 21640

--quiet
start
"""
# A file as people keep it, and keys that are there with what they say.
FILES: dict[str, tuple[str, dict[str, str]]] = {
    "properties": (PROPERTIES, {"name": "Low Tide", "port": "21640"}),
    "ini": (INI, {"loose": "1", "Server/Name": "Low Tide", "Server/Port": "21640", "Rules/Pvp": "no"}),
    "json": (JSON, {"name": 'Low "Tide"', "net/port": "21640", "list/1/deep": "true", "pvp": "false"}),
    "jsonc": (JSONC, {"name": 'Low "Tide"', "net/port": "21640", "pvp": "false"}),
    "lua": (LUA, {"name": "Low Tide", "the port": "21640", "net/bind": "0.0.0.0", "net/1/deep": "-0x1F"}),
    "toml": (TOML, {"name": "Low Tide", "pvp": "false", "net/port": "21640", "net/bind": "0.0.0.0"}),
    "yaml": (YAML, {"name": "Low Tide", "net/port": "21640", "net/bind": "0.0.0.0", "list/0": "one"}),
    "xml": (XML, {"name": "Low & Tide", "net/@port": "21640", "entry[@name=seed]/@value": "7", "entry/@value": "no"}),
    "lines": (LINES, {"Marit": "yes", "Aud Olsen": "yes"}),
    "arguments": (ARGUMENTS, {"--name=": "Low Tide", "-port": "21640", "--quiet": "yes"}),
    "environment": (
        "# tide\nNAME=Low Tide\nPORT=21640\nQUIET=yes\n",
        {"NAME": "Low Tide", "PORT": "21640", "QUIET": "yes"},
    ),
    "semicolon": (SEMICOLON, {"name": 'Low "Tide"', "port": "21640", "pvp": "0"}),
}
WAYS = ("net/fresh", "a/b/fresh", "fresh")
FRESH = {
    "ini": ("Server/Fresh", "New/Fresh", "fresh"),
    "json": WAYS,
    "jsonc": WAYS,
    "lua": (*WAYS, "two words", "net/1/end"),
    "toml": WAYS,
    "yaml": WAYS,
    "xml": ("net/@fresh", "a/b", "entry[@name=fresh]/@value", "empty/inner"),
}
WORDS = st.text(st.characters(codec="utf-8", exclude_categories=["C", "Z"]), max_size=9)
VALUES = st.one_of(st.booleans(), st.integers(0, 99999), WORDS)
NAMES = st.sampled_from(sorted(DIALECTS))
WITH_VALUES = st.sampled_from(
    sorted(set(DIALECTS) - {"lines", "arguments", "environment"})
)  # those have rows of their own


def both(text: str) -> tuple[bytes, bytes]:
    """With either line end."""
    return text.encode(), text.replace("\n", "\r\n").encode()


class Contract(unittest.TestCase):
    def test_every_dialect_has_a_row(self) -> None:
        self.assertEqual(set(FILES), set(DIALECTS))

    def test_what_is_there_is_read_and_kept(self) -> None:
        for name, (text, values) in FILES.items():
            marked = () if name == "properties" else (b"\xef\xbb\xbf" + text.encode(),)
            for data in (*both(text), *marked):
                with self.subTest(name, data=data[:4]):
                    dialect = DIALECTS[name]
                    read = dialect.read(data)
                    self.assertEqual({key: read.get(key) for key in values}, values)
                    self.assertEqual(dialect.edit(data, dict(read)), data)
                    self.assertEqual(dialect.edit(data, {}), data)

    @given(WITH_VALUES, VALUES, st.integers(0, 4))
    def test_an_edit_is_read_and_touches_its_own_line(self, name: str, value: Scalar, number: int) -> None:
        text, values = FILES[name]
        key = sorted(values)[number % len(values)]
        dialect = DIALECTS[name]
        for data in both(text):
            was = dialect.read(data)
            made = dialect.edit(data, {key: value})
            now = dialect.read(made)
            self.assertEqual(now[key], dialect.spell(value))
            changed = {what for one, what in now.items() if was.get(one) != what}
            self.assertLessEqual(changed, {dialect.spell(value)})
            self.assertEqual(dialect.edit(made, {key: value}), made)
            self.assertLessEqual(len([one for one in data.splitlines() if one not in made.splitlines()]), 1)

    @given(WITH_VALUES, st.dictionaries(st.integers(0, 9), st.one_of(st.none(), VALUES), max_size=4))
    def test_several_at_once(self, name: str, changes: dict[int, Scalar | None]) -> None:
        text, values = FILES[name]
        keys = sorted(values) + sorted(FRESH.get(name, ("fresh",)))
        wanted = {keys[number % len(keys)]: value for number, value in changes.items()}
        dialect = DIALECTS[name]
        gone = {key for key, value in wanted.items() if value is None}
        for data in both(text):
            try:
                made = dialect.edit(data, wanted)
            except ValueError:  # what stands on the way is no place for it
                continue
            now = dialect.read(made)  # whatever was asked for, it is still a file of its kind
            aliases = name == "xml" and any(key.startswith("entry") for key in wanted)
            for key, value in wanted.items():
                if value is not None and not aliases:
                    self.assertEqual(now.get(key), dialect.spell(value), (key, made))
            for key in values.keys() - wanted.keys():
                if not gone and not aliases:
                    self.assertEqual(now.get(key), values[key], (key, made))

    @given(WITH_VALUES, VALUES)
    def test_a_new_key_is_read_and_can_go(self, name: str, value: Scalar) -> None:
        text, values = FILES[name]
        dialect = DIALECTS[name]
        for key in FRESH.get(name, ("fresh",)):
            for data in both(text):
                made = dialect.edit(data, {key: value})
                read = dialect.read(made)
                self.assertEqual(read[key], dialect.spell(value), (key, made))
                self.assertEqual({one: read[one] for one in values}, values)
                gone = dialect.edit(made, {key: None})
                self.assertNotIn(key, dialect.read(gone))
                self.assertLessEqual(set(values), set(dialect.read(gone)))
                self.assertNotIn(b"\n" if b"\r\n" in data else b"\r", made.replace(b"\r\n", b""))

    def test_an_empty_file_is_begun(self) -> None:
        for name, dialect in DIALECTS.items():
            with self.subTest(name):
                if name in ("xml", "lines"):
                    self.assertRaises(ValueError, dialect.edit, b"", {"a": "1"})
                    continue
                if name == "arguments":
                    made = dialect.edit(b"", {"--port=": 21640, "--pvp": True, "--fog": False})
                    self.assertEqual(made, b"--port=21640\n--pvp\n")
                    continue
                made = dialect.edit(b"", {"name": "Low Tide", "port": 21640, "pvp": True})
                expected = {"name": "Low Tide", "port": "21640", "pvp": dialect.spell(True)}
                self.assertEqual(dialect.read(made), expected)

    def test_what_is_broken_is_told_with_its_line(self) -> None:
        rows = (
            ("json", b'{"a": 1,\n "b" 2}', "line 2"),
            ("json", b"[1]", "object"),
            ("json", b"[" * 9000, "nested"),
            ("toml", b"a = 1\nb = = 2\n", "line 2"),
            ("toml", b"c = 1\na" + b".a" * 80_000 + b" = 1\n", "more than 100 parts .at line 2"),
            ("toml", b"a = " + b"1" * 5_000, "400 digits"),
            ("toml", b"a = " + b"[" * 5_000, "nested more than"),
            ("yaml", b"a: 1\n b: [\n", "line"),
            ("yaml", b"- a\n- b", "mapping"),
            ("xml", b"<a>\n<b></a>", "line 2"),
            ("jsonc", b"{ // x\n'a': 1}", "line 2: a name in quotes"),
            ("jsonc", b'{"a": 1 "b": 2}', "a comma"),
            ("jsonc", b'{"a": /* 1}', "a value"),
            ("jsonc", b'{"a": ' + b"[" * 9000, "nested"),
            ("jsonc", b'{"a": "\\q"}', "an escape that JSON"),
            ("jsonc", b"{}\n}", "line 2: nothing"),
            ("lua", b"a = 1\nprint(a)\n", "line 2: only"),
            ("lua", b"a = {\n b = function() return 1, 2 end }", "line 2: a value"),
            ("lua", b"a = [[x", "no end"),
            ("lua", b"a = 'x\n'", "no end"),
            ("lua", b"a = {" * 9000, "line 1"),
            ("lua", b"return { " + b"{" * 9000, "nested"),
            ("lua", b"return { 1 }\nprint(1)", "line 2: nothing"),
            ("lua", b"return 2", "of a table"),
            ("lua", b"a = 60 * 5\nb = 1\n", "line 1: only"),
            ("xml", b"<!DOCTYPE x><a/>", "document type"),
            ("xml", b"<a>" * 500, "deep"),
            ("properties", b"a = \\u00zz\n", "escape"),
        )
        places = (
            ("json", b'{"a": 1, "b": ["x"]}', {"a/b/[x]": True}, "not an object"),
            ("json", b'{"a": {"b": 1}}', {"a/[x]": True}, "not an array"),
            ("yaml", b"a: 1\n", {"a/[x]": True}, "not a sequence"),
            ("yaml", b"a:\n- b: 1\n", {"a/[x]": True}, "not a sequence"),
            ("json", b'{"a": [1]}', {"a/[x]": True}, "not an array"),
            ("toml", b"a = [1]\n", {"a/[x]": True}, "not an array"),
            ("yaml", b"a: 1\n", {"a/b/[x]": True}, "not a mapping"),
            ("toml", b"a = 1\n", {"a/[x]": True}, "not an array"),
            ("toml", b"a = ['y']\n", {"a/b/c/[x]": True}, "not a table"),
            ("xml", b"<s><a><b/></a></s>", {"a": "x"}, "child elements"),
            ("yaml", b"a: &k 1\nb: *k\n", {"a": 2}, "anchor"),
            ("lines", b"", {"two\nlines": True}, "line"),
            ("json", b'{"a": 1, "a": 2}', {"a": 3}, "twice"),
            ("json", b'{"a": ["x"]}', {"a/[x]": "y"}, "it has no value"),
            ("ini", b"a = 1\n", {"a": " x"}, "blank"),
            ("yaml", b"a:\n- b: 1\n  c: 2\n", {"a/0/b": None}, "shares its line"),
            ("yaml", b"a: {?:B #}.\n }# k", {"a/": None}, "into this layout"),
            ("toml", b'["/"]\nb = 1\n', {"//b": None}, "not found at its place"),
            ("toml", b"[[u]]\n[v]\na = 1\n[[u]]\n", {"v/b": 1}, "in several places"),
            ("semicolon", b'"; // a = x" ";', {"a": False}, "into this layout"),
        )
        for name, data, changes, words in places:
            with self.subTest(name, data=data), self.assertRaisesRegex(ValueError, words):
                DIALECTS[name].edit(data, changes)
        for name, data, words in rows:
            with self.subTest(name, data=data[:20]), self.assertRaisesRegex(ValueError, words):
                self.fail(str(DIALECTS[name].read(data)))

    def test_a_line_without_end_is_passed_over(self) -> None:
        """Each took minutes or more where a pattern tried every way to part it."""
        size = 100_000
        members = ",".join(f'"a{number}":1' for number in range(9_000))
        for text in ("a" + " " * size, "a = x" + " " * size + "y", "a" * size, "{" + members + "}", "<a" + " b" * size):
            for name, dialect in DIALECTS.items():
                with self.subTest(name, text=text[:12]), contextlib.suppress(ValueError):
                    self.assertIsInstance(dialect.edit(text.encode(), {"fresh": "v"}), bytes)

    @given(NAMES, st.binary(max_size=60))
    def test_any_bytes(self, name: str, data: bytes) -> None:
        try:
            values = DIALECTS[name].read(data)
            self.assertEqual(DIALECTS[name].edit(data, dict(values)), data)
        except ValueError:
            return

    def test_forms_are_kept(self) -> None:
        rows: tuple[tuple[str, str, dict[str, Scalar | None], str], ...] = (
            ("json", '{"a": 1, "b": "1", "c": true}', {"a": "2", "b": "2", "c": "no"}, '{"a": 2, "b": "2", "c": "no"}'),
            ("json", '{"a": 1, "b": 2}', {"a": None}, '{"b": 2}'),
            ("json", '{"a": 1, "b": 2}', {"b": None}, '{"a": 1}'),
            ("toml", "a = 1 # one\nb = true\n", {"a": "2", "b": "false"}, "a = 2 # one\nb = false\n"),
            ("yaml", "a: '1'\nb: 1\nc: no\n", {"a": "2", "b": "2", "c": "yes"}, "a: '2'\nb: 2\nc: yes\n"),
            ("yaml", "a: x\n", {"a": "yes: no # x"}, 'a: "yes: no # x"\n'),
            ("semicolon", 'a = "1"; b = 1;\n', {"a": "2", "b": "2"}, 'a = "2"; b = 2;\n'),
            ("semicolon", "a = 1;\n", {"a": "two words"}, 'a = "two words";\n'),
            ("ini", '[S]\na="x"\n', {"S/a": "y"}, '[S]\na="y"\n'),
            ("json", '{"a": 1, "b": 2, "c": 3}', {"b": None, "c": None}, '{"a": 1}'),
            ("json", '{"a": ["x"]}', {"a/[y]": True, "a/[x]": True}, '{"a": ["x", "y"]}'),
            ("json", '{"a": ["x", "y"]}', {"a/[x]": None, "a/[y]": None}, '{"a": []}'),
            ("json", '{"a": []}', {"a/[x]": True}, '{"a": [\n  "x"\n]}'),
            ("json", '{"a": [1, 2, 3]}', {"a/1": None, "a/2": None}, '{"a": [1]}'),
            ("yaml", "a: |\n  x\nb: 1\n", {"a": None}, "b: 1\n"),
            ("yaml", "a:\n  b:\n  - p\n  - q: 1\nc: 1\n", {"a/n": 2}, 'a:\n  b:\n  - p\n  - q: 1\n  "n": 2\nc: 1\n'),
            ("yaml", "a:\nb: 1\n", {"a": "x"}, "a: x\nb: 1\n"),
            ("yaml", "a:\n- x\n- y # c\nb: 1\n", {"a/[z]": True, "a/[x]": None}, "a:\n- y # c\n- z\nb: 1\n"),
            ("yaml", "a: [x, y]\n", {"a/[z]": True, "a/[y]": None}, "a: [x, z]\n"),
            ("yaml", "a: [x]\nb: []\n", {"a/[x]": None, "b/[q]": True}, "a: []\nb: [q]\n"),
            ("yaml", "a:\n  b:\nc: 1\n", {"a/b/[x]": True}, "a:\n  b:\n    - x\nc: 1\n"),
            ("yaml", "c: 1\n", {"a/b/[x]": True}, "c: 1\na:\n  b:\n    - x\n"),
            ("yaml", "a:\n  c: 1\nd: 2\n", {"a/b/[x]": True}, "a:\n  c: 1\n  b:\n    - x\nd: 2\n"),
            ("toml", 'a = ["x"] # c\nb = 1\n', {"a/[y]": True}, 'a = ["x", "y"] # c\nb = 1\n'),
            ("toml", '[t]\na = [\n  "x", # c\n  "y",\n]\n', {"t/a/[x]": None}, '[t]\na = [\n  "y",\n]\n'),
            ("toml", "b = 1\n", {"a/[y]": True}, 'b = 1\na = ["y"]\n'),
            # a key that looks like one in the table before it, and is not
            ("toml", '[t]\n[[u]]\na = "x"\n', {"t/a": "y"}, '[t]\na = "y"\n[[u]]\na = "x"\n'),
            ("toml", '[t]\n["u[v]"]\na = "x"\n', {"t/a": "y"}, '[t]\na = "y"\n["u[v]"]\na = "x"\n'),
            ("toml", 'b = "\u2028a = 1 # "\na = 1\n', {"a": "2"}, 'b = "\u2028a = 1 # "\na = 2\n'),
            ("jsonc", '{\n  "a": 1, // one\n  "b": 2 // two\n}\n', {"b": None}, '{\n  "a": 1 // one\n}\n'),
            ("jsonc", '{\n  "a": 1, // one\n}\n', {"b": 2}, '{\n  "a": 1, // one\n  "b": 2,\n}\n'),
            ("jsonc", '{\n  "a": 1 // one\n}\n', {"b": "2"}, '{\n  "a": 1, // one\n  "b": "2"\n}\n'),
            ("jsonc", '{"a": ["x", "y"], "b": 1}', {"a/[y]": None, "a/[z]": True}, '{"a": ["x", "z"], "b": 1}'),
            ("jsonc", "{ // to fill in\n}\n", {"a/b": True}, '{ // to fill in\n  "a": { "b": true }\n}\n'),
            ("jsonc", '{"a": 1, /* 2 */ "b": 2}', {"a": None}, '{ /* 2 */ "b": 2}'),
            ("lua", "a = 1 -- one\nb = { 'x', 'y' }\n", {"a": "2", "b/[y]": None}, "a = 2 -- one\nb = { 'x' }\n"),
            ("lua", "return { a = 1; b = 'q' }", {"b": "it's", "c": True}, "return { a = 1; b = 'it\\'s', c = true }"),
            ("lua", "a = {\n  1, -- x\n}\n", {"a/two words": 2}, 'a = {\n  1, -- x\n  ["two words"] = 2,\n}\n'),
            ("lua", "a = { b = 60 * 5, c = 1 }\n", {"a/c": 2}, "a = { b = 60 * 5, c = 2 }\n"),
            ("lua", "a = { b = 60 * 5, c = 1 }\n", {"a/b": 7}, "a = { b = 7, c = 1 }\n"),
            ("lua", "a = [==[x]]y]==]\n", {"a": "x\ny"}, 'a = "x\\ny"\n'),
            ("lua", "a = 1\na = 2\n", {"a": 3}, "a = 1\na = 3\n"),
            ("lua", "a = { b = 1, b = 2 }\n", {"a/b": None}, "a = {  }\n"),
            ("lua", "local x = 1\ny = x_1\n"[:12], {"x": 2}, "local x = 2\n"),
            ("xml", "<s><a><!-- c --></a></s>", {"a": "x"}, "<s><a><!-- c -->x</a></s>"),
            ("xml", '<s><a v="1"/></s>', {"a": "x", "a/@v": "2"}, '<s><a v="2">x</a></s>'),
            ("xml", "<s><a><![CDATA[x < y]]></a></s>", {"a": "x < z"}, "<s><a>x &lt; z</a></s>"),
            ("lines", "# x\nAud\nTove\n", {"Aud": None, "Liv": True}, "# x\nTove\nLiv\n"),
            ("arguments", "--a=1\n-b 2\n--c\n", {"--a=": 3, "-b": "x y", "--c": False}, "--a=3\n-b x y\n"),
            ("arguments", "--c\nd", {"--c": "7", "--e": True}, "--c 7\nd\n--e\n"),
            ("arguments", "--a x\n--b\n", {"--a": ""}, "--b\n"),
            ("arguments", "--b\n", {"+set fps": 30, "port=": 7}, "#pairs +set\n--b\n+set fps 30\nport=7\n"),
            (
                "arguments",
                "#pairs +set\n+set fps  9\n+set x\n",
                {"+set fps": 3, "+set x": ""},
                "#pairs +set\n+set fps  3\n",
            ),
            ("arguments", "# x\n--b\n", {"@2": "B c", "@1": "a"}, "# x\na\nB c\n--b\n"),
            ("arguments", "a\n--b\nc\n", {"@2": "d"}, "a\n--b\nd\n"),
            ("environment", "# x\nA=b c \nB=1=2", {"A": True, "B": None, "C": "é"}, "# x\nA=yes\nC=é\n"),
            ("arguments", "--a==\n--b=\n--c   =\n", {"--a=": "", "--b=": "=", "--c": "2"}, "--a=\n--b==\n--c   2\n"),
            # what stands there twice is not to come to light again
            ("lines", "Marit\nTove\nMarit\n", {"Marit": None}, "Tove\n"),
            ("lines", "Oddvar # deputy\nTove\n", {"Oddvar": None, "Tove": True}, "Tove\n"),
            ("lines", "Oddvar # deputy\n", {"Oddvar": True}, "Oddvar # deputy\n"),
            (
                "properties",
                "moot: x\na=1\nb   =   2\nlong.key  value\n",
                {"moot": "y", "a": 2, "b": 3, "long.key": "z"},
                "moot: y\na=2\nb   =   3\nlong.key  z\n",
            ),
            (
                "properties",
                "e\\:k:v\nmore = a \\\n  b : c\n",
                {"e:k": "w", "new": "n"},
                "e\\:k:w\nmore = a \\\n  b : c\nnew = n\n",
            ),
            ("ini", "[S]\na = 1\na = 2\nb = 3\n", {"S/a": None}, "[S]\nb = 3\n"),
            # a member goes without what shares its line
            ("yaml", '{"a": 1, "b": 2}\n', {"a": None}, '{"b": 2}\n'),
            ("yaml", "c: {d: e, f: g} # h\n", {"c/f": None}, "c: {d: e} # h\n"),
            ("xml", '<s><door key="x" places="8"/></s>', {"door/@places": None}, '<s><door key="x"/></s>'),
            ("xml", '<s><p name="A" is="y"/></s>', {"p[@name=A]/@is": None}, "<s></s>"),
            ("xml", '<s><p name="A"/></s>', {"p/@is": "y", "p[@name=A]/@is": "y"}, '<s><p name="A" is="y"/></s>'),
            ("semicolon", 'a = "http://x"; b = 1;\n', {"a": "ftp://y"}, 'a = "ftp://y"; b = 1;\n'),
            ("properties", "a=1\r\nb=2\nc=3", {"b": "9"}, "a=1\r\nb=9\nc=3"),
            ("xml", "<s><a/></s>", {"a": "<"}, "<s><a>&lt;</a></s>"),
            ("xml", "<s>\n  <a>\n    1\n  </a>\n</s>", {"a": "2"}, "<s>\n  <a>\n    2\n  </a>\n</s>"),
        )
        for name, before, changes, after in rows:
            with self.subTest(name, before=before):
                self.assertEqual(DIALECTS[name].edit(before.encode(), changes).decode(), after)

    def test_arguments_reach_the_server_in_their_order(self) -> None:
        text = "# x\r\n--a=1 2\r\n-b  two words\n--c\n\nstart here\n"
        self.assertEqual(argument_list(text.encode()), ("--a=1 2", "-b", "two words", "--c", "start here"))
        pairs = ("+set", "fps", "3 0", "+set", "x", "+y", "z w")
        self.assertEqual(argument_list(b"+set fps  3 0\n+set x\n+y z w", ("+set",)), pairs)
        for key, value in (("@1", "--x"), ("@2", "a"), ("@1", "# a"), ("a b=", 1), ("--x", "a\nb")):
            with self.subTest(key), self.assertRaises(ValueError):
                DIALECTS["arguments"].edit(b"", {key: value})
        with self.assertRaisesRegex(ValueError, "follows it"):
            DIALECTS["arguments"].edit(b"a\nb\n", {"@1": None})

    def test_other_encodings(self) -> None:
        for name in ("utf-16-le", "utf-16-be"):
            mark = "\ufeff".encode(name)
            data = mark + "[S]\r\nName = Ebbe ä\r\n".encode(name)
            self.assertEqual(DIALECTS["ini"].read(data), {"S/Name": "Ebbe ä"})
            self.assertEqual(DIALECTS["ini"].edit(data, {"S/Name": "ö"}), mark + "[S]\r\nName = ö\r\n".encode(name))
        latin = "name = Ebbe ä\nport = 1\n".encode("latin-1")
        self.assertEqual(DIALECTS["ini"].edit(latin, {"port": 2}), latin.replace(b"1", b"2"))

    def test_xml_in_the_encoding_that_it_names(self) -> None:
        head = '<?xml version="1.0" encoding="ISO-8859-1"?>\n<s><n v="Ebbe ä"/></s>'
        dialect = DIALECTS["xml"]
        data = head.encode("latin-1")
        self.assertEqual(dialect.read(data), {"n/@v": "Ebbe ä", "n": ""})
        self.assertEqual(
            dialect.edit(data, {"n/@v": "ö → flod"}), head.replace("Ebbe ä", "ö &#8594; flod").encode("latin-1")
        )
        self.assertEqual(dialect.read(dialect.edit(data, {"n/@v": "ö → flod"}))["n/@v"], "ö → flod")
        self.assertEqual(dialect.edit(data, {"n/@v": "Ebbe ä"}), data)
        for wrong in (
            b'<?xml version="1.0" encoding="runic"?><s/>',
            b'<?xml version="1.0" encoding="ascii"?><s>\xe4</s>',
        ):
            with self.subTest(wrong), self.assertRaisesRegex(ValueError, "encoding"):
                dialect.read(wrong)

    def test_endings(self) -> None:
        self.assertIs(dialect_of("config/a.YML"), DIALECTS["yaml"])
        self.assertIsNone(dialect_of("greeting.txt"))

"""Files of Lua tables, as Rhizon reads and edits them and as Lua itself does."""

import importlib
import re
import unittest
from collections.abc import Mapping
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.settings.dialects import DIALECTS, Scalar

LUA = DIALECTS["lua"]
SPACE = st.sampled_from(["", " ", "\n", "\n  ", " -- harbour\n", " --[[ two\n lines ]] ", "--[==[ ]] ]==]", "--\n"])
NAMES = st.sampled_from(["a", "b", "name", '["two words"]', "[7]", "['end']", "_x9"])
LITERALS = ["1", "-2.5", "0x1F", "1e3", "true", "false", '"Low \\"Tide\\""', "'it\\'s\\n'", "[[long]]", "[=[\n]]]=]"]
OTHERS = [
    '"\\065\\x42\\u{e9}"',
    "'-- no'",
    '"{"',
    "60 * 5",
    "'a' .. 'b'",
    "#'abc'",
    "(1 + 2)",
    "not true",
    "1 --[[]]\n+ 2",
]
PLAIN = st.sampled_from([*LITERALS, *OTHERS, "math.max(1, 2)", "({ 3, 4 })[2]", "({ a = 'x' }).a"])
TEXTS = st.text(st.characters(codec="utf-8", exclude_categories=["C", "N"]), min_size=1, max_size=6)
COMPUTED = re.compile(r"[*(#+]|\.\.|^not")


@st.composite
def tables(draw: st.DrawFn, deep: int = 0) -> str:
    made = "{" + draw(SPACE)
    size = draw(st.integers(0, 4))
    for number in range(size):
        name = draw(st.one_of(st.just(""), NAMES))
        value = draw(tables(deep + 1)) if deep < 2 and draw(st.integers(0, 3)) == 0 else draw(PLAIN)
        made += f"{name}{draw(SPACE)}={draw(SPACE)}" * bool(name) + value + draw(SPACE)
        made += draw(st.sampled_from([",", ";"] + [""] * (number + 1 == size))) + draw(SPACE)
    return made + "}"


def flat(value: Any, kinds: Any, read: Mapping[str, str], prefix: str = "") -> dict[str, object]:
    """What Lua has, by the keys that ``read`` has for it."""
    if any(key.startswith(f"{prefix}[") for key in read):
        return {f"{prefix}[{one}]": True for _, one in value.items()}
    made: dict[str, object] = {}
    for key, one in value.items():
        if kinds(one) == "table":
            made |= flat(one, kinds, read, f"{prefix}{key}/")
        else:
            made[f"{prefix}{key}"] = one
    return made


class AsLuaHasIt(unittest.TestCase):
    def setUp(self) -> None:
        try:
            lua54 = importlib.import_module("lupa.lua54")
        except ImportError:
            self.skipTest("lupa, Lua itself, is not installed")
        self.runtime = lua54.LuaRuntime(encoding="utf-8")
        self.kind = lua54.lua_type

    def loaded(self, data: bytes) -> dict[str, object]:
        return flat(self.runtime.execute(data.decode()), self.kind, LUA.read(data))

    @given(
        tables(),
        st.integers(0, 30),
        st.one_of(st.none(), st.booleans(), st.integers(-9, 999), TEXTS),
    )
    def test_an_edit_changes_what_it_names(self, table: str, number: int, value: Scalar | None) -> None:
        data = f"-- settings\nreturn {table}\n".encode()
        before, read = self.loaded(data), LUA.read(data)
        fresh = ("fresh", "new/two words/end")
        keys = [*sorted(read), *fresh]
        key = keys[number % len(keys)]
        if key.endswith("]") and value is not None:
            value = True
        plain = (str, int, float, bool)
        for name, one in before.items():
            if isinstance(one, plain) and not COMPUTED.search(read[name]):
                said = read[name]
                self.assertEqual(one if isinstance(one, str | bool) else str(one), self.said(said, one), name)
        try:
            made = LUA.edit(data, {key: value})
        except ValueError:
            return
        after = self.loaded(made)
        if value is None:
            self.assertNotIn(key, after)
            self.assertLessEqual(len(after), len(before))
            return
        self.assertEqual(after[key], value)
        self.assertEqual({**before, key: after[key]}, after)

    @staticmethod
    def said(text: str, like: object) -> object:
        """A value that was read as a text, in the form in which Lua gave it."""
        if isinstance(like, bool):
            return {"true": True, "false": False}[text]
        if isinstance(like, str):
            return text
        return str(int(text, 16) if "x" in text else float(text) if isinstance(like, float) else int(text))

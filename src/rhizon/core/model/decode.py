"""Bytes to a typed document, or every mistake of it at once.

The fast path is msgspec's own decoder, which stops at the first mistake. Only when it has refused a
document is the plain data walked again beside the type, to say all that is wrong with it.
"""

import functools
import re
import tomllib
from collections.abc import Iterator, Mapping
from typing import Annotated, Any, TypeVar

import msgspec
from msgspec import inspect as types

from rhizon.core.errors import DocumentError, Mistake
from rhizon.core.model.base import SHA256_PATTERN, Strict, dec_hook, enc_hook
from rhizon.core.model.extend import extended
from rhizon.core.model.line_numbers import line_of, lines_of
from rhizon.core.names import ID_PATTERN, printable, suggestions
from rhizon.core.toml_reading import read_toml

__all__ = ["decode_json", "decode_toml", "encode_json", "encode_line", "mistakes_in", "plain_toml"]

LARGEST_TOML = 8 << 20
LARGEST_JSON = 512 << 20
MOST_MISTAKES = 50

T = TypeVar("T", bound=Strict)


def decode_toml(kind: type[T], data: bytes, source: str, what: str, base: Mapping[str, Any] | None = None) -> T:
    """A document that people write, put together with the ``base`` that it changes. Raises :class:`DocumentError`,
    whose mistakes name their lines."""
    plain_data = plain_toml(data, source, what)
    if base is not None:
        plain_data = extended(base, plain_data)
    try:
        if kind.ids_of_items and isinstance(plain_data, dict):
            plain_data = {**plain_data, **_with_compared_ids(kind, plain_data, source, what)}
        return _typed(kind, plain_data, source, what)
    except DocumentError as wrong:
        known = lines_of(data.decode("utf-8-sig"))
        told = [Mistake(one.place, one.value, one.right, line_of(known, one.place)) for one in wrong.mistakes]
        raise DocumentError(source, what, told) from None


def _with_compared_ids(kind: type[Strict], data: dict[str, Any], source: str, what: str) -> dict[str, Any]:
    """The fields in which content is named, with ids in the small letters by which they are compared. Raises
    DocumentError where one item is named twice."""
    fields: dict[str, Any] = {}
    for field in kind.ids_of_items:
        value = data.get(field)
        if isinstance(value, str):
            fields[field] = value.lower()
        elif isinstance(value, list):
            fields[field] = [_compared_id(one) for one in value]
        elif isinstance(value, dict):
            keys: dict[str, str] = {}
            for key in value:
                other = keys.setdefault(key.lower(), key)
                if other != key:
                    raise DocumentError(source, what, [Mistake(f"{field}.{key}", "", f"{other} is the same item")])
            fields[field] = {key.lower(): one for key, one in value.items()}
    return fields


def _compared_id(value: Any) -> Any:
    """The same for a text, a table with ``id``, and one with alternatives."""
    if isinstance(value, str):
        return value.lower()
    if isinstance(value, dict):
        return {
            key: [_compared_id(other) for other in one]
            if isinstance(one, list)
            else one.lower()
            if key == "id" and isinstance(one, str)
            else one
            for key, one in value.items()
        }
    return value


def decode_json(kind: type[T], data: bytes, source: str, what: str) -> T:
    """A document that machines write. Raises :class:`DocumentError`."""
    _bound(data, LARGEST_JSON, source, what)
    try:
        try:
            return msgspec.json.decode(data, type=kind, dec_hook=dec_hook)
        except msgspec.ValidationError:
            plain_data = msgspec.json.decode(data)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as broken:
        raise DocumentError(source, what, [Mistake("the file", "", _json_words(broken, data))]) from None
    return _typed(kind, plain_data, source, what)


def encode_json(document: Any) -> bytes:
    """The document as indented JSON with one line end at its end; the same value gives the same bytes."""
    return msgspec.json.format(msgspec.json.encode(document, enc_hook=enc_hook), indent=2) + b"\n"


def encode_line(document: Any) -> bytes:
    """The document as compact JSON. A file name that is not UTF-8 (PEP 383) is shown with ``�``."""
    try:
        return msgspec.json.encode(document, enc_hook=enc_hook)
    except UnicodeEncodeError:
        return msgspec.json.encode(_without_surrogates(msgspec.to_builtins(document, enc_hook=enc_hook)))


def _without_surrogates(data: Any) -> Any:
    """Plain data whose texts can be written as UTF-8."""
    if isinstance(data, str):
        return re.sub("[\ud800-\udfff]+", "�", data)
    if isinstance(data, dict):
        return {_without_surrogates(key): _without_surrogates(value) for key, value in data.items()}
    return [_without_surrogates(one) for one in data] if isinstance(data, list | tuple) else data


def mistakes_in(kind: type[Strict], data: Any) -> list[Mistake]:
    """All that keeps plain ``data`` from being a ``kind``, at most 50 of them."""
    found = []
    for mistake in _walk(types.type_info(kind), data, ""):
        found.append(mistake)
        if len(found) == MOST_MISTAKES:
            break
    return found


def _bound(data: bytes, most: int, source: str, what: str) -> None:
    if len(data) > most:
        raise DocumentError(source, what, [Mistake("the file", f"{len(data)} bytes", f"at most {most} bytes")])


def plain_toml(data: bytes, source: str, what: str) -> dict[str, Any]:
    """What a document says, before it is typed. Raises DocumentError."""
    _bound(data, LARGEST_TOML, source, what)
    try:
        return read_toml(data.decode("utf-8-sig"))
    except UnicodeDecodeError as broken:
        line = data[: broken.start].count(b"\n") + 1
        raise DocumentError(source, what, [Mistake(f"line {line}", "", "the file is not UTF-8 text")]) from None
    except tomllib.TOMLDecodeError as broken:
        raise DocumentError(source, what, [Mistake("TOML", "", printable(str(broken)))]) from None


def _json_words(broken: Exception, data: bytes) -> str:
    if isinstance(broken, RecursionError):
        return "values are nested too deep"
    if isinstance(broken, UnicodeDecodeError) or not data.strip():
        return "the file is empty" if not data.strip() else "the file is not UTF-8 text"
    return f"not JSON: {printable(str(broken))}"


def _typed(kind: type[T], data: Any, source: str, what: str) -> T:
    wanted = _format_of(kind)
    if isinstance(data, dict) and isinstance(data.get("format"), str) and data["format"] != wanted:
        raise DocumentError(source, what, [_other_format(data["format"], wanted)])
    try:
        return msgspec.convert(data, kind, dec_hook=dec_hook, strict=True)
    except (msgspec.ValidationError, RecursionError) as broken:
        found = mistakes_in(kind, data) or [_of_whole(printable(str(broken)))]
        raise DocumentError(source, what, found) from None


def _of_whole(text: str) -> Mistake:
    """A mistake that a document's own check found; many begin with the place."""
    match = re.fullmatch(r"([a-z_]+(?:\.[^:\s]+)?): (.+)", text)
    return Mistake(match[1], "", match[2]) if match else Mistake("the file", "", text)


@functools.cache
def _format_of(kind: type[Strict]) -> str:
    field = next((f for f in types.type_info(kind).fields if f.encode_name == "format"), None)  # type: ignore[attr-defined]
    return str(field.type.values[0]) if field is not None else ""


def _other_format(found: str, wanted: str) -> Mistake:
    name, _, number = found.rpartition("/")
    own, _, own_number = wanted.rpartition("/")
    if name == own and number.isdecimal() and int(number) > int(own_number):
        right = f"this Rhizon reads {wanted!r}; a newer one wrote this file"
    elif name.startswith("rhizon-"):
        right = f"this is another kind of document; {wanted!r} is expected"
    else:
        right = f"{wanted!r} is expected"
    return Mistake("format", _shown(found), right)


def _shown(value: Any) -> str:
    text = printable(value if isinstance(value, str) else repr(value), 60)
    return f"{text!r}" if isinstance(value, str) else text


_NAMES = {
    dict: "a table",
    list: "a list",
    str: "text",
    bool: "true or false",
    int: "a whole number",
    float: "a number",
}


_PATTERN_WORDS = {
    ID_PATTERN: "an id (small letters, digits, - _ .)",
    SHA256_PATTERN: "a SHA-256 as 64 small hexadecimal digits",
}


def _kind(value: Any) -> str:
    return _NAMES.get(type(value), type(value).__name__)


def _at(place: str, step: str | int) -> str:
    if isinstance(step, int):
        return f"{place}[{step}]"
    shown = printable(step, 60)
    if not re.fullmatch(r"[A-Za-z0-9_-]+", shown):
        shown = f'"{shown}"'
    return f"{place}.{shown}" if place else shown


def _walk(kind: types.Type, value: Any, place: str) -> Iterator[Mistake]:
    """The mistakes of ``value``, depth first, in the order of the document."""
    here = place or "the file"
    match kind:
        case types.StructType():
            yield from _walk_struct(kind, value, place)
        case types.DictType():
            if not isinstance(value, dict):
                yield Mistake(here, _kind(value), "a table is expected")
                return
            for key, one in value.items():
                yield from _walk(kind.key_type, key, _at(place, str(key)))
                yield from _walk(kind.value_type, one, _at(place, str(key)))
        case types.ListType() | types.VarTupleType() | types.FrozenSetType():
            if not isinstance(value, list):
                yield Mistake(here, _kind(value), "a list is expected")
                return
            if kind.min_length is not None and len(value) < kind.min_length:
                yield Mistake(here, f"{len(value)} entries", f"at least {kind.min_length} is expected")
            for index, one in enumerate(value):
                yield from _walk(kind.item_type, one, _at(place, index))
        case types.UnionType():
            yield from _walk_union(kind, value, place)
        case types.AnyType() | types.RawType():
            return
        case _:
            right = _scalar(kind, value)
            if right:
                yield Mistake(here, _shown(value), right)


def _walk_struct(kind: types.StructType, value: Any, place: str) -> Iterator[Mistake]:
    """Every mistake of a table: unknown fields, missing ones, wrong ones, then rules over several fields."""
    if not isinstance(value, dict):
        yield Mistake(place or "the file", _kind(value), "a table is expected")
        return
    clean = True
    known = {field.encode_name: field for field in kind.fields}
    for key in value:
        if key not in known:
            clean = False
            guess = suggestions(str(key), known, 1)
            right = (
                f"not a field here; did you mean {guess[0]!r}?"
                if guess
                else f"not a field here; known: {', '.join(known)}"
            )
            yield Mistake(_at(place, str(key)), "", right)
    for name, field in known.items():
        if name not in value:
            if field.required:
                clean = False
                yield Mistake(_at(place, name), "", f"missing; {_wanted(field.type)} is expected")
            continue
        for mistake in _walk(field.type, value[name], _at(place, name)):
            clean = False
            yield mistake
    if clean:  # only now can the type's own rule over several fields be asked
        try:
            msgspec.convert(value, kind.cls, dec_hook=dec_hook, strict=True)
        except msgspec.ValidationError as broken:
            for line in str(broken).split(" - at ")[0].splitlines():  # a rule for each
                yield Mistake(place, "", printable(line)) if place else _of_whole(printable(line))


def _walk_union(kind: types.UnionType, value: Any, place: str) -> Iterator[Mistake]:
    """The mistakes of the alternative that comes nearest."""
    best: list[Mistake] | None = None
    for one in kind.types:
        found = list(_walk(one, value, place))
        if not found:
            return
        # the branch of the value's own shape gives the mistakes worth reading
        fits = isinstance(one, types.StructType | types.DictType) == isinstance(value, dict)
        if fits and not isinstance(one, types.NoneType) and (best is None or len(found) < len(best)):
            best = found
    if best is not None and isinstance(value, dict | list):
        yield from best
    else:
        wanted = " or ".join(_wanted(one) for one in kind.types if not isinstance(one, types.NoneType))
        yield Mistake(place or "the file", _shown(value), f"{wanted} is expected")


def _wanted(kind: types.Type) -> str:
    """The type in words."""
    match kind:
        case types.StrType():
            return _PATTERN_WORDS.get(kind.pattern or "", "text")
        case types.IntType():
            return "a whole number" + _bounds(kind)
        case types.FloatType():
            return "a number"
        case types.BoolType():
            return "true or false"
        case types.LiteralType():
            return " or ".join(repr(one) for one in kind.values)
        case types.ListType() | types.VarTupleType():
            return "a list"
        case types.CustomType():
            return {"Version": "a version", "VersionRange": "a range such as '>=1.2, <2'"}.get(
                kind.cls.__name__, "a relative path"
            )
        case types.UnionType():
            return " or ".join(_wanted(one) for one in kind.types if not isinstance(one, types.NoneType))
        case _:
            return "a table"


def _bounds(kind: types.IntType) -> str:
    if kind.ge is not None and kind.le is not None:
        return f" from {kind.ge} to {kind.le}"
    return f" of at least {kind.ge}" if kind.ge is not None else ""


def _scalar(kind: types.Type, value: Any) -> str:
    """What would be right in place of ``value``, or nothing when it is right."""
    try:
        match kind:
            case types.StrType(pattern=pattern, max_length=longest):
                meta = msgspec.Meta(pattern=pattern, max_length=longest)
                msgspec.convert(value, _annotated(str, meta))
            case types.IntType(ge=ge, le=le):
                msgspec.convert(value, _annotated(int, msgspec.Meta(ge=ge, le=le)))
            case types.FloatType():
                msgspec.convert(value, float)
            case types.BoolType():
                msgspec.convert(value, bool)
            case types.NoneType():
                msgspec.convert(value, None)
            case types.LiteralType(values=values):
                if value not in values:
                    return _literal(value, values)
            case types.CustomType(cls=cls):
                dec_hook(cls, value)
    except ValueError as wrong:
        if isinstance(wrong, msgspec.ValidationError):
            return f"{_wanted(kind)} is expected" + (
                f", at most {kind.max_length} characters"
                if isinstance(kind, types.StrType) and kind.max_length and isinstance(value, str) and not kind.pattern
                else ""
            )
        return printable(str(wrong))
    return ""


def _literal(value: Any, values: tuple[Any, ...]) -> str:
    guess = suggestions(value, [str(one) for one in values], 1) if isinstance(value, str) else []
    choice = " or ".join(repr(one) for one in values)
    return f"{choice} is expected" + (f"; did you mean {guess[0]!r}?" if guess and len(values) > 1 else "")


def _annotated(kind: type, meta: msgspec.Meta) -> Any:
    return Annotated[kind, meta]

"""Three-way merges: what was shipped before, what a person made of it, what is shipped now.

Files whose dialect is known are merged by setting, others by line. Where both sides changed the same thing the
person's stays; what would have replaced it is reported, and the caller writes it beside.
"""

import difflib
from collections.abc import Collection, Iterator, Mapping
from typing import Literal, NamedTuple

import msgspec

from rhizon.core.settings.dialects import Dialect, Scalar
from rhizon.core.settings.dialects.spans import NotWritableError

__all__ = ["MergeConflict", "Merged", "merge_keys", "merge_lines"]

MOST_LINES = 20_000  # of all three together: difflib's worst case grows with the square


class MergeConflict(msgspec.Struct, frozen=True, kw_only=True):
    """A key (or the first line's number, from 1) that both sides changed: the person's value, which stays, and the
    shipped one. ``shipped_before`` says whether the shipped one is new (a real clash) or was there last time."""

    key: str
    mine: str
    shipped: str
    shipped_before: bool = False


class Merged(msgspec.Struct, frozen=True, kw_only=True):
    """The file as it should be, what was taken over into the person's file, and what was not."""

    data: bytes
    taken: tuple[str, ...] = ()
    clashes: tuple[MergeConflict, ...] = ()

    @property
    def real_clashes(self) -> tuple[MergeConflict, ...]:
        """Those whose shipped value is a new one."""
        return tuple(one for one in self.clashes if not one.shipped_before)


def merge_keys(
    dialect: Dialect,
    mine: bytes,
    before: Mapping[str, Scalar],
    shipped: Mapping[str, Scalar],
    insisted: Mapping[str, Scalar] | None = None,
) -> Merged:
    """Merges by setting into the person's file, which keeps every byte that no setting changes.

    A key that the person did not touch gets the shipped value, or goes where it is shipped no longer; one that the
    person changed stays. ``insisted`` is written whatever is there. Values that differ in outer blanks only are the
    same. What the file cannot take as it is laid out stays as it is, and is reported like a clash. Raises ValueError
    where ``mine`` cannot be read, or cannot take what is insisted on.
    """
    there = dialect.read(mine)
    insisted = insisted or {}
    old = {key: dialect.spell(value) for key, value in before.items()}
    changes: dict[str, Scalar | None] = {}
    clashes = []
    for key, value in shipped.items():
        if key in insisted:
            continue
        now, new = there.get(key), dialect.spell(value)
        if now is None:
            if key not in old or old[key] != new:  # a key that the person took out stays out
                changes[key] = value
        elif _same(now, new):
            continue
        elif key not in old or _same(now, old[key]):
            changes[key] = value
        else:
            clashes.append(MergeConflict(key=key, mine=now, shipped=new, shipped_before=old[key] == new))
    for key, was in old.items():
        if key not in shipped and key not in insisted and key in there and _same(there[key], was):
            changes[key] = None
    changes |= {key: value for key, value in insisted.items() if not _same(there.get(key), dialect.spell(value))}
    data, refused = _edited(dialect, mine, changes, insisted)
    clashes += [
        MergeConflict(key=key, mine=there.get(key, "nothing"), shipped=dialect.spell(shipped[key]))
        for key in refused
        if key in shipped
    ]
    return Merged(data=data, taken=tuple(sorted(changes.keys() - set(refused))), clashes=tuple(clashes))


def _edited(
    dialect: Dialect, mine: bytes, changes: Mapping[str, Scalar | None], insisted: Collection[str]
) -> tuple[bytes, list[str]]:
    """The file with as many of the changes as it can take, and the keys of the others."""
    try:
        return dialect.edit(mine, changes), []
    except NotWritableError:
        refused = []
        for key, value in changes.items():
            try:
                mine = dialect.edit(mine, {key: value})
            except NotWritableError:
                if key in insisted:
                    raise
                refused.append(key)
        return mine, refused


def _same(one: str | None, other: str) -> bool:
    return one is not None and one.strip() == other.strip()


class _Piece(NamedTuple):
    """A stretch of lines: of all three alike, changed by one side, changed alike by both, or a clash."""

    kind: Literal["same", "mine", "shipped", "clash"]
    lines: list[bytes]
    other: list[bytes]
    at: int


def merge_lines(before: bytes, mine: bytes, shipped: bytes) -> Merged | None:
    """Merges by line (S. Khanna, K. Kunal, B. C. Pierce: A Formal Investigation of Diff3, FSTTCS 2007). None where the
    files are not text or too long to compare."""
    if any(b"\0" in one for one in (before, mine, shipped)):
        return None
    base, ours, theirs = (one.splitlines(keepends=True) for one in (before, mine, shipped))
    if len(base) + len(ours) + len(theirs) > MOST_LINES:
        return None
    made: list[bytes] = []
    taken = []
    clashes = []
    for piece in _pieces(base, ours, theirs):
        if piece.kind == "shipped":
            taken.append(f"line {len(made) + 1}")
        if piece.kind == "clash":
            clashes.append(
                MergeConflict(key=f"line {piece.at + 1}", mine=_text(piece.lines), shipped=_text(piece.other))
            )
        made += piece.lines
    return Merged(data=b"".join(made), taken=tuple(taken), clashes=tuple(clashes))


def _text(lines: list[bytes]) -> str:
    return b"".join(lines).decode("utf-8", "replace").strip()


def _pieces(base: list[bytes], ours: list[bytes], theirs: list[bytes]) -> Iterator[_Piece]:
    """The two versions cut into pieces that only one, both or neither changed."""
    at_base = at_ours = at_theirs = 0
    for in_base, in_ours, in_theirs, length in _in_step(base, ours, theirs):
        old = base[at_base:in_base]
        left, right = ours[at_ours:in_ours], theirs[at_theirs:in_theirs]
        if left or right or old:
            if left == right or right == old:
                yield _Piece("mine", left, [], at_ours)
            elif left == old:
                yield _Piece("shipped", right, [], at_ours)
            else:
                yield _Piece("clash", left, right, at_ours)
        if length:
            yield _Piece("same", base[in_base : in_base + length], [], in_ours)
        at_base, at_ours, at_theirs = in_base + length, in_ours + length, in_theirs + length


def _in_step(base: list[bytes], ours: list[bytes], theirs: list[bytes]) -> Iterator[tuple[int, int, int, int]]:
    """Stretches that all three have, as they are in each, with their length; the end of all three comes last."""
    left = difflib.SequenceMatcher(None, base, ours, autojunk=False).get_matching_blocks()
    right = difflib.SequenceMatcher(None, base, theirs, autojunk=False).get_matching_blocks()
    i = j = 0
    while i < len(left) and j < len(right):
        a, b = left[i], right[j]
        begin, end = max(a.a, b.a), min(a.a + a.size, b.a + b.size)
        if begin < end:
            yield begin, a.b + begin - a.a, b.b + begin - b.a, end - begin
        if a.a + a.size < b.a + b.size:
            i += 1
        else:
            j += 1
    yield len(base), len(ours), len(theirs), 0

"""Code that a server never runs, since it stands behind a question whose answer there is known.

A game definition names methods that tell on which side code runs, with what they answer on a server (``side_checks``).
A branch on such an answer has one way; a method of content that only passes the answer on, or its opposite, counts as
such a question too. Nothing else is decided: no values in fields or variables.
"""

import itertools
from collections.abc import Callable, Mapping

from rhizon.core.archives.bytecode import BROKEN, MethodCode, code_of
from rhizon.core.archives.classfile import Method

__all__ = ["SideChecks"]

_IFEQ, _IFNE, _GOTO, _IRETURN = 0x99, 0x9A, 0xA7, 0xAC
_ICONST_0, _ICONST_1 = 0x03, 0x04
_LOADS = (*range(0x19, 0x1A), *range(0x2A, 0x2E), 0xB2, 0xB4)  # of a receiver: aload, getstatic, getfield
_CALLS = range(0xB6, 0xBA)
_MOST_DEEP = 3  # of methods that pass the answer of another on
_MOST_STEPS = 40  # of a method that is asked whether it does


class SideChecks:
    """``answers``: what methods answer on a server, by class (with slashes) and name. ``find`` gives a method of
    content by class, name and descriptor."""

    def __init__(self, answers: Mapping[tuple[str, str], bool], find: Callable[[str, str, str], Method | None]) -> None:
        self._answers = answers
        self._find = find
        self._known: dict[tuple[str, str, str], bool | None] = {}

    def live(self, method: Method) -> Callable[[int], bool] | None:
        """Tells for a place in the code of a method whether a server may come to it; None where it may to all."""
        code = code_of(method) if self._answers else None
        try:
            return self._live(code) if code is not None else None
        except BROKEN:
            return None

    def _live(self, code: MethodCode) -> Callable[[int], bool] | None:
        places = list(code.instructions())
        entered = {target for at in places for target in code.targets(at)}
        entered |= {code.begin + one.begin for one in code.handlers}
        one_way: dict[int, int] = {}  # places of decided branches, and where they go
        for before, at in itertools.pairwise(places):
            if code.data[at] in (_IFEQ, _IFNE) and at not in entered:
                answer = self._answer(code, before)
                if answer is not None:
                    jumps = answer is (code.data[at] == _IFNE)
                    one_way[at] = code.targets(at)[0] if jumps else code.next_after(at)
        if not one_way:
            return None
        seen: set[int] = set()
        waiting = [code.begin]
        while waiting:
            at = waiting.pop()
            if at in seen or not code.begin <= at < code.end:
                continue
            seen.add(at)
            if at in one_way:
                waiting.append(one_way[at])
                continue
            waiting += code.targets(at)
            if code.falls_through(at):
                waiting.append(code.next_after(at))
            offset = at - code.begin
            waiting += (code.begin + one.begin for one in code.handlers if one.first <= offset < one.last)
        return seen.__contains__

    def _answer(self, code: MethodCode, at: int, deep: int = 0) -> bool | None:
        """What the call at a place gives on a server; None for another instruction and where it is not known."""
        if code.data[at] not in _CALLS:
            return None
        owner, name, descriptor = code.reader.member(code.data[at + 1] << 8 | code.data[at + 2])
        if not descriptor.endswith(")Z"):
            return None
        if (owner, name) in self._answers:
            return self._answers[owner, name]
        key = (owner, name, descriptor)
        if key not in self._known and deep < _MOST_DEEP:
            self._known[key] = None  # for a method that asks itself
            method = self._find(*key)
            passes_on = code_of(method) if method is not None else None
            try:
                self._known[key] = self._returned(passes_on, deep) if passes_on is not None else None
            except BROKEN:
                self._known[key] = None
        return self._known.get(key)

    def _returned(self, code: MethodCode, deep: int) -> bool | None:
        """What a method returns that does nothing but pass an answer on, or its opposite."""
        value: bool | None = None
        asked = False
        at = code.begin
        for _ in range(_MOST_STEPS):
            operation = code.data[at]
            if operation == _IRETURN:
                return value if asked else None
            if operation in (_ICONST_0, _ICONST_1):
                value = operation == _ICONST_1
            elif operation in _CALLS:
                value, asked = self._answer(code, at, deep + 1), True
                if value is None:
                    return None
            elif operation in (_IFEQ, _IFNE) and value is not None:
                if value is (operation == _IFNE):
                    at = code.targets(at)[0]
                    continue
            elif operation == _GOTO:
                at = code.targets(at)[0]
                continue
            elif operation not in _LOADS:
                return None
            at = code.next_after(at)
        return None

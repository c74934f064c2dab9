"""Which port numbers a server gets."""

from collections.abc import Callable, Mapping

import msgspec

from rhizon.core.errors import StateError

__all__ = ["PortWish", "allocate"]

SPAN = 400  # how far above its default a role's number may move

# (number, protocol) -> who holds it, None when it is free
Holder = Callable[[int, str], str | None]


class PortWish(msgspec.Struct, frozen=True, kw_only=True):
    """A role, its protocols, and where to look first."""

    role: str
    protocols: tuple[str, ...]
    default: int


def allocate(wishes: tuple[PortWish, ...], fixed: Mapping[str, int], holder: Holder) -> dict[str, int]:
    """A free number for each role, the same on all its protocols.

    A ``fixed`` number is honoured or refused with who holds it; otherwise the default or the next free
    number above it. Raises :class:`StateError`.
    """
    given: dict[str, int] = {}

    def taken(wish: PortWish, number: int) -> str | None:
        if number in given.values():
            return next(f"this server's own {role} port" for role, one in given.items() if one == number)
        return next((who for protocol in wish.protocols if (who := holder(number, protocol))), None)

    for wish in sorted(wishes, key=lambda one: one.role not in fixed):
        if wish.role in fixed:
            number = fixed[wish.role]
            who = taken(wish, number)
            if who is not None:
                raise StateError(
                    "port-taken",
                    f"port {number} was asked for as {wish.role} port, but {who} holds it",
                    hint=f"Stop that program, or ask for another: --port {wish.role}=NUMBER, or leave it out.",
                )
            given[wish.role] = number
            continue
        last = min(wish.default + SPAN, 65535)
        free = next((n for n in range(wish.default, last + 1) if taken(wish, n) is None), None)
        if free is None:
            raise StateError(
                "ports-exhausted",
                f"no {wish.role} port from {wish.default} to {last} is free",
                hint=f"Name one yourself: --port {wish.role}=NUMBER.",
            )
        given[wish.role] = free
    return {wish.role: given[wish.role] for wish in wishes}

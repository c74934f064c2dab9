"""Which port numbers a server gets."""

from collections.abc import Callable, Iterator, Mapping, Sequence

import msgspec

from rhizon.core.errors import InputError, StateError

__all__ = ["PortRoom", "PortWish", "allocate", "parse_pool"]

SPAN = 400  # how far above its default a role's number may move
PRIVILEGED = 1024  # below it only an administrator may listen

# (number, protocol) -> who holds it, None when it is free
Holder = Callable[[int, str], str | None]


class PortWish(msgspec.Struct, frozen=True, kw_only=True):
    """A role, its protocols, and where to look first. A block takes ``count`` numbers in a row; a role with
    ``offset_of`` has its number that far from the other role's, and no choice of its own."""

    role: str
    protocols: tuple[str, ...]
    default: int
    count: int = 1
    offset_of: str | None = None
    offset: int = 0


class PortRoom(msgspec.Struct, frozen=True, kw_only=True):
    """Where numbers may be taken: from the ``pool`` alone (empty: from anywhere near the default), and from the
    ``ephemeral`` range, which the system gives to outgoing connections, only when nothing else is left."""

    pool: tuple[int, ...] = ()
    ephemeral: tuple[int, int] | None = None


def parse_pool(parts: Sequence[str]) -> tuple[int, ...]:
    """``24000-24100`` and single numbers, as numbers in that order, each once. ValueError says what is wrong."""
    numbers: dict[int, None] = {}
    for part in parts:
        first, dash, last = part.replace(" ", "").partition("-")
        if not first.isdecimal() or (dash and not last.isdecimal()):
            raise ValueError(f"{part!r} is neither a port number nor a range such as 24000-24100")
        begin, end = int(first), int(last or first)
        if not 1 <= begin <= end <= 65535:
            raise ValueError(f"{part!r} is not within 1 to 65535, from small to large")
        numbers.update(dict.fromkeys(range(begin, end + 1)))
    return tuple(numbers)


def allocate(
    wishes: tuple[PortWish, ...], fixed: Mapping[str, int], holder: Holder, room: PortRoom | None = None
) -> dict[str, int]:
    """A free number for each role (the first of its block), the same on all its protocols.

    A ``fixed`` number is honoured or refused with who holds it; otherwise the default or the next free number above
    it, or in the pool. Raises :class:`StateError`; InputError where a role with a fixed offset was to have a number of
    its own.
    """
    room = room or PortRoom()
    given: dict[str, int] = {}
    used: dict[int, str] = {}
    leaders = [wish for wish in wishes if wish.offset_of is None]
    for wish in wishes:
        if wish.offset_of is not None and wish.role in fixed:
            raise InputError(
                "unknown-port",
                f"the {wish.role} port is always {wish.offset:+} from the {wish.offset_of} port",
                hint=f"Set that one, as in --port {wish.offset_of}={fixed[wish.role] - wish.offset}",
            )
    for leader in sorted(leaders, key=lambda one: one.role not in fixed):
        group = [leader, *(wish for wish in wishes if wish.offset_of == leader.role)]
        number = _number(leader, group, fixed, used, holder, room)
        for wish in group:
            given[wish.role] = number + wish.offset
            used.update({number + wish.offset + more: wish.role for more in range(wish.count)})
    return {wish.role: given[wish.role] for wish in wishes}


def _number(
    leader: PortWish,
    group: list[PortWish],
    fixed: Mapping[str, int],
    used: Mapping[int, str],
    holder: Holder,
    room: PortRoom,
) -> int:
    """The number of a leading port with room for all that count from it: the fixed one, or the first candidate that is
    free. Raises StateError, InputError."""

    def taken(number: int) -> tuple[int, str] | None:
        """The first number of the group that somebody has."""
        for wish in group:
            for one in range(number + wish.offset, number + wish.offset + wish.count):
                if not 1 <= one <= 65535:
                    return one, ""
                if one in used:
                    return one, f"this server's own {used[one]} port"
                for protocol in wish.protocols:
                    who = holder(one, protocol)
                    if who is not None:
                        return one, who
        return None

    if leader.role in fixed:
        held = taken(fixed[leader.role])
        if held is not None and not held[1]:
            raise _out_of_range(leader.role, group, fixed[leader.role])
        if held is not None:
            raise StateError(
                "port-taken",
                f"{leader.role} port {held[0]} is taken by {held[1]}",
                hint="Stop that program, set another number with --port, or leave --port out.",
            )
        return fixed[leader.role]
    for number in _candidates(leader, group, room):
        if taken(number) is None:
            return number
    where = f"in the pool of {len(room.pool)}" if room.pool else f"from {leader.default} to {leader.default + SPAN}"
    raise StateError(
        "ports-exhausted",
        f"no {leader.role} port {where} is free",
        hint="Set one with --port" + (", or extend the pool in host.toml." if room.pool else "."),
    )


def _out_of_range(role: str, group: list[PortWish], number: int) -> InputError:
    below = min(one.offset for one in group)
    above = max(one.offset + one.count - 1 for one in group)
    first, last = number + below, number + above
    wrong = f"{role} ports {first}-{last} exceed 65535" if last > 65535 else f"{role} port {first} is below 1"
    hint = f"Set a number from {1 - below} to {65535 - above} with --port {role}."
    return InputError("port-out-of-range", wrong, hint=hint)


def _candidates(leader: PortWish, group: list[PortWish], room: PortRoom) -> Iterator[int]:
    """Numbers to try, the best first: what it had, what is near, and last what the system may be giving to outgoing
    connections."""
    span = range(leader.default, min(leader.default + SPAN, 65535) + 1)
    near = [number for number in span if number >= PRIVILEGED or number == leader.default]
    if room.pool:
        pool = set(room.pool)
        whole = [
            number
            for number in dict.fromkeys((leader.default, *room.pool))
            if all(number + one.offset + more in pool for one in group for more in range(one.count))
        ]
        near = whole
    ephemeral = range(room.ephemeral[0], room.ephemeral[1] + 1) if room.ephemeral else range(0)
    yield from (number for number in near if number not in ephemeral or number == leader.default)
    yield from (number for number in near if number in ephemeral)

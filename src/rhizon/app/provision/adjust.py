"""What a person changes of a source's content for one server: pieces left out, pieces held at other releases. It stays
until it is taken back, whatever the source says."""

from collections.abc import Mapping

import msgspec

from rhizon.app.choose.sources import Source
from rhizon.core.errors import InputError
from rhizon.core.model.contentlist import ContentList, Wish
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock
from rhizon.core.model.pack import Pack
from rhizon.core.names import suggestions
from rhizon.core.version import numbered, parse_range, parse_version
from rhizon.core.words import command_line

__all__ = ["ContentChanges", "adjusted", "combined"]


class ContentChanges(msgspec.Struct, frozen=True, kw_only=True):
    """Ids of content to leave out, ranges to hold content at by its id, and ids of which neither is to be any more."""

    without: tuple[str, ...] = ()
    held: Mapping[str, str] = {}
    taken_back: tuple[str, ...] = ()


def combined(before: Instance | None, lock: Lock | None, asked: ContentChanges) -> ContentChanges:
    """What holds for a server: what was asked for earlier, and what is asked for now. Raises InputError for content
    that the server does not have."""
    known = {one.id for one in lock.releases} if lock is not None else set()
    earlier = {*before.without, *before.held} if before is not None else set()
    for one in (*asked.without, *asked.held, *asked.taken_back):
        if one not in known | earlier and (lock is not None or one in asked.taken_back):
            guess = suggestions(one, known | earlier, 1)
            raise InputError(
                "no-such-content",
                f"the server has no content {one}",
                hint=f"Did you mean {guess[0]}?" if guess else "See what it has: rhizon bom",
            )
    gone = {*asked.taken_back, *asked.held}
    without = [one for one in (before.without if before is not None else ()) if one not in gone]
    held = dict(before.held) if before is not None else {}
    held = {one: text for one, text in (held | dict(asked.held)).items() if one not in asked.without}
    return ContentChanges(
        without=tuple(dict.fromkeys((*without, *asked.without))),
        held={one: text for one, text in held.items() if one not in asked.taken_back},
    )


def adjusted(source: Source, changes: ContentChanges) -> Source:
    """The source with these changes. Raises InputError where they cannot be: a lock is solved already, and a pack has
    exact versions."""
    if not changes.without and not changes.held:
        return source
    match source.document:
        case ContentList():
            return msgspec.structs.replace(source, document=_list(source.document, changes))
        case Pack():
            return msgspec.structs.replace(source, document=_pack(source.document, changes))
        case _:
            raise InputError(
                "already-solved",
                f"{source.label} is a lock: nothing can be left out of it or held at another release",
                hint="Provision from the list or pack that it was made from.",
            )


def _list(wanted: ContentList, changes: ContentChanges) -> ContentList:
    """A list with these changes; what is held is wished for, also where it only was needed by something else."""
    wishes: dict[str, str | Wish] = {one: wish for one, wish in wanted.content.items() if one not in changes.without}
    for one, text in changes.held.items():
        wish = wishes.get(one)
        try:
            span = numbered(parse_range(text))
        except ValueError as wrong:
            raise _no_range(one, text, str(wrong)) from None
        wishes[one] = msgspec.structs.replace(wish if isinstance(wish, Wish) else Wish(), range=span)
    held_out = dict.fromkeys((*wanted.exclude, *changes.without))
    return msgspec.structs.replace(wanted, content=wishes, exclude=tuple(one for one in held_out if one not in wishes))


def _pack(pack: Pack, changes: ContentChanges) -> Pack:
    content = {one: version for one, version in pack.content.items() if one not in changes.without}
    for one, text in changes.held.items():
        try:
            content[one] = parse_version(text)
        except ValueError as wrong:
            raise _no_range(one, text, f"a pack has exact versions; {wrong}") from None
    return msgspec.structs.replace(pack, content=content)


def _no_range(one: str, text: str, why: str) -> InputError:
    return InputError(
        "bad-range",
        f"{one} cannot be held at {text!r}: {why}",
        hint="For example: " + command_line("rhizon", "update", "marsh", "--hold", "reedlight=<2.1"),
    )

"""Regular expressions of documents, and the names of encodings."""

import codecs
import re

__all__ = ["check_encoding", "check_no_repeated_group", "check_pattern"]


def check_pattern(text: str, where: str, needs: tuple[str, ...] = ()) -> None:
    """ValueError for what is no regular expression, or lacks a group."""
    try:
        groups = re.compile(text).groupindex
    except re.error as wrong:
        raise ValueError(f"{where}: {text!r} is not a regular expression: {wrong}") from None
    for group in needs:
        if group not in groups:
            raise ValueError(f"{where}: {text!r} has no group (?P<{group}>...)")


def check_no_repeated_group(text: str, where: str) -> None:
    """A kit comes from somebody else, with its patterns: one with a repeat inside a repeat can take for ever."""
    if re.search(r"(?<!\\)\)[*+{]", text):
        raise ValueError(f"{where}: {text!r} repeats a group; write it without")


def check_encoding(name: str, where: str) -> None:
    """ValueError for what is not the name of an encoding."""
    try:
        codecs.lookup(name)
    except LookupError:
        raise ValueError(f"{where}: {name!r} is not the name of an encoding, such as utf-8 or latin-1") from None

"""Lines of logs as they compare from one run to the next."""

import hashlib
import re

__all__ = ["fingerprint", "without_numbers"]

_ADDRESS = re.compile(r"0x[0-9a-fA-F]+|@[0-9a-f]{4,}\b")
_NUMBER = re.compile(r"\d+")
MOST = 200


def without_numbers(text: str) -> str:
    """A line with ``#`` for numbers, times and addresses, at most 200 characters: the same in two runs."""
    return _NUMBER.sub("#", _ADDRESS.sub("#", text)).strip()[:MOST]


def fingerprint(text: str) -> str:
    """Sixteen hexadecimal digits that are the same for lines that differ in numbers only."""
    return hashlib.blake2b(without_numbers(text).encode("utf-8", "replace"), digest_size=8).hexdigest()

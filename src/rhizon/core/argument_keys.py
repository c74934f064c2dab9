"""How the keys of start arguments and variables are written: a key shows the form of its argument."""

import re
from collections.abc import Collection

__all__ = ["ARGUMENT_KEY", "VARIABLE", "is_switch", "pair_words"]

ARGUMENT_KEY = re.compile(r"@[1-9]|[-+/]\S*|\w[\w.]*=|\S+ [^\s=]+")
VARIABLE = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


def pair_words(keys: Collection[str]) -> tuple[str, ...]:
    """The words that stand before a name in these keys."""
    return tuple(dict.fromkeys(key.partition(" ")[0] for key in keys if " " in key))


def is_switch(key: str) -> bool:
    """Whether an argument can be there without a value: then neither no nor an empty text can be said by it."""
    return not key.endswith("=") and not key.startswith("@")

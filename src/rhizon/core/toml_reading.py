"""TOML as plain values, where the text may be a stranger's."""

import re
import tomllib
from typing import Any

from rhizon.core.text_limits import TextLimitError, bounded

__all__ = ["read_toml"]

# tomllib's time and memory grow with the square of a dotted key's parts: 200 kB of one key would take all memory
MOST_PARTS = 100
_PART = r"""(?:[A-Za-z0-9_-]++|"[^"\n]*+"|'[^'\n]*+')"""
_LONG_KEY = re.compile(rf"(?<![A-Za-z0-9_-])(?:{_PART}[ \t]*+\.[ \t]*+){{{MOST_PARTS}}}")


def read_toml(text: str) -> dict[str, Any]:
    """Raises tomllib.TOMLDecodeError (a ValueError), also for what is nested too deep and for numbers of thousands of
    digits."""
    try:
        bounded(text, "toml")
    except TextLimitError as beyond:
        raise tomllib.TOMLDecodeError(str(beyond)) from None
    long = _LONG_KEY.search(text) if text.count(".") >= MOST_PARTS else None
    if long is not None:
        line = text.count("\n", 0, long.start()) + 1
        raise tomllib.TOMLDecodeError(f"a key of more than {MOST_PARTS} parts (at line {line})")
    try:
        return tomllib.loads(text)
    except RecursionError:
        raise tomllib.TOMLDecodeError("values are nested too deep") from None
    except tomllib.TOMLDecodeError:
        raise
    except ValueError:
        raise tomllib.TOMLDecodeError("a number has thousands of digits") from None

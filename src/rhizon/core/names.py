"""The one place that decides which names from outside are safe to use."""

import difflib
import re
import unicodedata
from collections.abc import Iterable

__all__ = [
    "ID_PATTERN",
    "RelPath",
    "UnsafeNameError",
    "fold",
    "printable",
    "safe_path",
    "suggestions",
]

# A content, game, loader or port-role id.
ID_PATTERN = r"^[a-z0-9][a-z0-9_.-]{0,63}$"
LONGEST_PATH = 600
LONGEST_PART = 250  # what file systems hold is 255 bytes

# Device names that some systems refuse in any folder and with any ending.
_RESERVED = {"con", "prn", "aux", "nul", *(f"com{n}" for n in range(10)), *(f"lpt{n}" for n in range(10))}
# Nearly every path that is ever seen; whatever else is looked at one by one.
_ORDINARY = re.compile(r"(?:[A-Za-z0-9_$][A-Za-z0-9_$+.-]*/)*[A-Za-z0-9_$][A-Za-z0-9_$+.-]*")
_DEVICE = re.compile(r"/(?:con|prn|aux|nul|com\d|lpt\d)[./]")
_FORBIDDEN = set('<>:"|?*\\')


class UnsafeNameError(ValueError):
    """A name that could leave its folder, or that some system cannot hold; the text says why."""


class RelPath(str):
    """A relative path with ``/`` between its parts that :func:`safe_path` has let through."""

    __slots__ = ()


def safe_path(text: str) -> RelPath:
    """``text`` as a path that stays below its folder on every system.

    Refused (:class:`UnsafeNameError`): empty, absolute, drive letters, ``.`` or ``..`` parts, backslashes,
    control characters, characters and device names that some system reserves, parts that end in a dot
    or a space, parts over 250 and paths over 600 characters.
    """
    if len(text) <= LONGEST_PART and _ORDINARY.fullmatch(text):
        whole = f"/{text.lower()}/"
        if "./" not in whole and not _DEVICE.search(whole):
            return RelPath(text)
    if not text or len(text) > LONGEST_PATH:
        raise UnsafeNameError(f"a path has 1 to {LONGEST_PATH} characters")
    if text.startswith("/"):
        raise UnsafeNameError("a path here is relative")
    for part in text.split("/"):
        if part in ("", ".", ".."):
            raise UnsafeNameError(f"a path here has no {part!r} part")
        if len(part) > LONGEST_PART or len(part.encode("utf-8", "replace")) > LONGEST_PART:
            raise UnsafeNameError(f"a part of a path has at most {LONGEST_PART} characters")
        bad = next((c for c in part if c in _FORBIDDEN or unicodedata.category(c) in ("Cc", "Cf", "Cs")), None)
        if bad is not None:
            raise UnsafeNameError(f"the character {bad!r} is not allowed in a file name")
        if part[-1] in ". " or part[0] == " ":
            raise UnsafeNameError("a file name does not begin or end with a space or end with a dot")
        if part.split(".")[0].lower().strip() in _RESERVED:
            raise UnsafeNameError(f"{part!r} is a device name on some systems")
    return RelPath(text)


def fold(path: str) -> str:
    """The form in which two paths are the same file on a system that ignores case."""
    return path.lower() if path.isascii() else unicodedata.normalize("NFC", path).casefold()


def printable(text: str, longest: int = 2000) -> str:
    """``text`` without anything that could steer a terminal or hide itself.

    Control codes (with the escape sequences they begin), bidirectional overrides and other invisible
    characters become ``�`` once for each run; line ends and tabs become a space.
    """
    if text.isascii() and text.isprintable() and len(text) <= longest:
        return text
    text = re.sub(r"\x1b\[[0-?]*[ -/]*[@-~]|\x1b\][^\x07\x1b]*(?:\x07|\x1b\\)?|\x1b.", "�", text[: longest * 2])
    text = re.sub(r"[\r\n\t]+", " ", text)
    shown = "".join("�" if unicodedata.category(c) in ("Cc", "Cf", "Cs", "Co", "Zl", "Zp") else c for c in text)
    shown = re.sub("�+", "�", shown)
    return shown if len(shown) <= longest else shown[: longest - 1] + "…"


def suggestions(name: str, known: Iterable[str], most: int = 3) -> list[str]:
    """Up to ``most`` known names that a person may have meant, the nearest first."""
    by_fold: dict[str, str] = {}
    for one in known:
        by_fold.setdefault(one.casefold(), one)
    wanted = name.casefold()
    hits = difflib.get_close_matches(wanted, by_fold, n=most, cutoff=0.6)
    hits += [one for one in sorted(by_fold) if len(wanted) > 2 and wanted in one and one not in hits]
    return [by_fold[one] for one in hits[:most]]

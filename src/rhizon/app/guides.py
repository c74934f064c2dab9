"""The guides that ship with Rhizon, and what an error's or a finding's code means."""

import re
from pathlib import Path

import msgspec

import rhizon
from rhizon.core.errors import InputError
from rhizon.core.names import printable, suggestions

__all__ = ["Guide", "GuideLine", "GuideList", "find_guide", "list_guides"]

# In the installed package; beside the sources otherwise.
_FOLDERS = (Path(rhizon.__file__).parent / "docs", Path(rhizon.__file__).parents[2] / "docs")
_GUIDES = (
    "commands",
    "json",
    "api",
    "formats",
    "exit-codes",
    "findings",
    "life",
    "joining",
    "rented",
    "reaching",
    "many-machines",
    "keeping",
    "solving",
    "archives",
    "reliability",
    "describe-a-game",
    "game-fields",
    "harbour-lights",
)
_CODES = ("exit-codes", "findings")


class GuideLine(msgspec.Struct, frozen=True, kw_only=True):
    """A guide in a list: the topic that one types, and its title."""

    name: str
    title: str


class GuideList(msgspec.Struct, frozen=True, kw_only=True):
    """All guides, by name."""

    guides: tuple[GuideLine, ...]


class Guide(msgspec.Struct, frozen=True, kw_only=True):
    """A guide, or the row of a table that explains one code; ``text`` is Markdown."""

    name: str
    title: str
    text: str


def _files() -> dict[str, Path]:
    folder = next((one for one in _FOLDERS if (one / "exit-codes.md").is_file()), None)
    files = {name: folder / f"{name}.md" for name in _GUIDES} if folder is not None else {}
    return {name: file for name, file in files.items() if file.is_file()}


def list_guides() -> tuple[GuideLine, ...]:
    """Every guide that is installed."""
    return tuple(GuideLine(name=name, title=_title(file.read_text("utf-8"))) for name, file in _files().items())


def _title(text: str) -> str:
    return text.partition("\n")[0].lstrip("# ")


def find_guide(topic: str) -> Guide:
    """A guide by its name, or what the code of an error or a finding means. Raises :class:`InputError`."""
    files = _files()
    if topic in files:
        text = files[topic].read_text("utf-8")
        return Guide(name=topic, title=_title(text), text=text)
    codes: dict[str, str] = {}
    for name in _CODES:
        if name in files:
            for code, row in _rows(files[name].read_text("utf-8")).items():
                codes[code] = f"{codes[code]}\n\n{row}" if code in codes else row
    if topic in codes:
        return Guide(name=topic, title=topic, text=codes[topic])
    guess = suggestions(topic, [*files, *codes], 1)
    raise InputError(
        "no-such-topic",
        f"there is no guide and no code {printable(topic, 60)!r}",
        hint=f"Did you mean {guess[0]}? All guides: rhizon help" if guess else "All guides: rhizon help",
    )


def _rows(text: str) -> dict[str, str]:
    """Of each code in the tables of a page what its row says, as paragraphs with the table's heads."""
    found: dict[str, str] = {}
    heads: list[str] = []
    section = ""
    above: dict[int, str] = {}  # the cells of the row before, which `the same` stands for
    for line in text.splitlines():
        if match := re.match(r"## (\d): (.*)", line):
            section = f"exit code: {match[1]} ({match[2]})"
        if not line.startswith("|"):
            heads, above = [], {}
            continue
        cells = [cell.strip() for cell in re.split(r"(?<!\\)\|", line.strip().strip("|"))]
        cells = [re.sub("^the same", above.get(at, "the same"), cell) for at, cell in enumerate(cells)]
        above = dict(enumerate(cells))
        if not heads:
            heads = cells
        elif match := re.match(r"`([a-z-]+)`", cells[0]):
            parts = [f"{head}: {cell}" for head, cell in zip(heads[1:], cells[1:], strict=False) if cell]
            parts += [section] if section else []
            for code in re.findall(r"`([a-z-]+)`", cells[0]):
                row = "\n".join([code, *(f"  {part}" for part in parts)])
                found[code] = f"{found[code]}\n\n{row}" if code in found else row
    return found

"""Whether a file has the name that its content would have: a name is what people see, and what is renamed by hand."""

import re

from rhizon.core.archives.facts import ArchiveFacts
from rhizon.core.archives.spelling import version_in_name
from rhizon.core.finding import Finding
from rhizon.core.names import printable

__all__ = ["copy_order", "fits_name", "on_file_name"]

_COPY = re.compile(r"( \(\d+\)| - .*copy.*)$", re.IGNORECASE)


def fits_name(file_name: str, facts: ArchiveFacts) -> bool:
    """Whether a file name that has the form NAME-VERSION may mean the item: its id, title or a part of them are in the
    name, or the name in them. True for a name of another form, and where there is nothing to compare."""
    stem = _COPY.sub("", file_name.rpartition("/")[2].rpartition(".")[0])
    version = version_in_name(f"{stem}.")
    if not version:
        return True
    name = _plain(stem.removesuffix(version))
    known = [_plain(one) for one in (facts.id, facts.written, facts.title, *re.split(r"[-_. ]", facts.id))]
    return not name or any(len(one) > 2 and (one in name or name in one) for one in known)


def copy_order(file_name: str, facts: ArchiveFacts | None) -> tuple[bool, int, str]:
    """Sorts files of the same bytes: those whose name fits come first, then shorter names, which were not renamed."""
    return facts is not None and not fits_name(file_name, facts), len(file_name), file_name


def on_file_name(file_name: str, facts: ArchiveFacts) -> list[Finding]:
    """The finding on a file whose name says that it is another item, or another release of it."""
    stem = _COPY.sub("", file_name.rpartition("/")[2].rpartition(".")[0])
    version = version_in_name(f"{stem}.")
    item = not fits_name(file_name, facts)
    release = bool(version) and _digits(facts.version.text) not in _digits(stem) and not _vague(version)
    if not item and not release:
        return []
    return [
        Finding(
            code="name-and-content",
            severity="warning" if item else "note",
            subject=printable(file_name, 120),
            what=f"by its name it is {printable(stem, 80)}, but it contains {facts.id} {facts.version}",
            remedy="What it contains counts. Rename it, or get the right file.",
        )
    ]


def _plain(text: str) -> str:
    return "".join(one for one in text.lower() if one.isalnum())


def _digits(text: str) -> str:
    """The numbers of a version, whatever is between them, each between dots; zeros at the end say nothing."""
    numbers = [one.lstrip("0") or "0" for one in re.findall(r"\d+", text)]
    while len(numbers) > 1 and numbers[-1] == "0":
        numbers.pop()
    return "".join(f".{one}" for one in numbers)


def _vague(version: str) -> bool:
    """Whether it is a single number, such as in ``lamps-2.jar``: that need not be a version."""
    return "." not in version

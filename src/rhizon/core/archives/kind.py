"""What a file really is that no loader takes: each with its own next step."""

import html
import re
from typing import NamedTuple

from rhizon.core.archives.entries import Archive
from rhizon.core.archives.facts import MANIFEST
from rhizon.core.archives.metadata.fields import MetadataError
from rhizon.core.archives.metadata.flat import main_attributes
from rhizon.core.errors import TrustError
from rhizon.core.model.pack import PACK_FILE
from rhizon.core.names import printable
from rhizon.core.units import counted, size_text

__all__ = ["HEAD_BYTES", "Kind", "kind_of_archive", "kind_of_bytes"]

HEAD_BYTES = 4096
_LOCAL_ENTRY = b"PK\x03\x04"
_AGAIN = "Download it again."
_PACKED = "Unpack it, and use the archives that are in it."
# Signatures of formats by which a file begins, as file(1) knows them.
_SIGNATURES: tuple[tuple[bytes, str, str, str], ...] = (
    (b"\x1f\x8b", "other-archive", "a gzip file", _PACKED),
    (b"7z\xbc\xaf\x27\x1c", "other-archive", "a 7z archive", _PACKED),
    (b"Rar!\x1a\x07", "other-archive", "a rar archive", _PACKED),
    (b"\xfd7zXZ\x00", "other-archive", "an xz file", _PACKED),
    (b"BZh", "other-archive", "a bzip2 file", _PACKED),
    (b"\x28\xb5\x2f\xfd", "other-archive", "a zstd file", _PACKED),
    (b"MZ", "a-program", "a Windows program", "Do not run it on the server; get the archive itself."),
    (b"\x7fELF", "a-program", "a Linux program or library", "Do not run it; get the archive itself."),
    (b"\xcf\xfa\xed\xfe", "a-program", "a macOS program", "Do not run it; get the archive itself."),
    (b"\xca\xfe\xba\xbe", "a-class", "a single Java class", "Get the archive that it belongs to."),
    (b"%PDF", "other-file", "a PDF document", "Get the archive itself."),
    (b"\x89PNG", "other-file", "a picture", "Get the archive itself."),
)
_TITLE = re.compile(rb"<title[^>]*>(.{0,200}?)</title", re.I | re.S)


class Kind(NamedTuple):
    """The code of a finding, what the file is, and what to do."""

    code: str
    what: str
    remedy: str


def kind_of_bytes(head: bytes, size: int, *, has_end: bool) -> Kind | None:
    """What a file of ``size`` bytes is that is no zip archive, from its first :data:`HEAD_BYTES`; ``has_end``:
    a zip's end record is in its last bytes. None where it cannot be told."""
    if size == 0:
        return Kind("empty-file", "it is empty: the download did not begin", _AGAIN)
    if head.startswith(_LOCAL_ENTRY):
        if has_end:
            return None
        return Kind("archive-cut-off", f"its end is missing: {size_text(size)} of a zip archive are here", _AGAIN)
    start = head.removeprefix(b"\xef\xbb\xbf").lstrip()[:200].lower()
    if start.startswith((b"<!doctype html", b"<html", b"<head")):
        return _web_page(head)
    for signature, code, what, remedy in _SIGNATURES:
        if head.startswith(signature):
            return Kind(code, f"it is {what}, whatever its name says", remedy)
    if head[257:262] == b"ustar":
        return Kind("other-archive", "it is a tar archive, whatever its name says", _PACKED)
    return _text(head)


def _web_page(head: bytes) -> Kind:
    match = _TITLE.search(head)
    title = html.unescape(match[1].decode("utf-8", "replace")) if match else ""
    titled = f" with the title {printable(' '.join(title.split()), 80)!r}" if title.strip() else ""
    what = f"it is a web page{titled}: the site answered with a page and not with the file"
    return Kind("web-page", what, "Open the address in a browser, and download the file itself.")


def _text(head: bytes) -> Kind | None:
    if b"\0" in head:
        return None
    try:
        text = head.decode("utf-8")
    except UnicodeDecodeError as wrong:
        if wrong.start < len(head) - 8:
            return None
        text = head[: wrong.start].decode("utf-8")
    line = next((one.strip() for one in text.splitlines() if one.strip()), "")
    return Kind("a-text", f"it is a text that begins with {printable(line, 60)!r}", "Get the archive itself.")


def kind_of_archive(archive: Archive) -> Kind | None:
    """What a zip archive is that has no metadata of a loader; None where it is an ordinary one."""
    names = archive.names()
    if not names:
        return Kind("archive-empty", "it contains no files", _AGAIN)
    packs = [one for one in names if one.rpartition("/")[2] == PACK_FILE and one.count("/") <= 1]
    if packs:
        where = "" if packs[0] == PACK_FILE else f" in the folder {printable(packs[0].partition('/')[0], 60)}"
        return Kind("a-pack", f"it is a pack: {PACK_FILE} is in it{where}", "Name it as the source, not as an archive.")
    inside = [one for one in names if one.lower().endswith((".jar", ".zip", ".dll"))]
    classes = sum(one.endswith(".class") for one in names)
    if inside and not classes:
        shown = ", ".join(printable(one, 60) for one in inside[:4]) + (" …" if len(inside) > 4 else "")
        return Kind("holds-archives", f"it holds {counted(len(inside), 'archive')}: {shown}", _PACKED)
    sources = sum(one.endswith((".java", ".kt", ".scala", ".cs")) for one in names)
    if sources and not classes:
        what = f"it holds {counted(sources, 'source file')} and nothing compiled"
        return Kind("source-archive", what, "Get the compiled archive of the same release.")
    main = _main_class(archive)
    if main and classes:
        kinds = "a program, an installer or a library"
        what = f"it has a main class ({printable(main, 80)}) and no loader's metadata: {kinds}"
        return Kind("a-program", what, "Read what its author says of it; a loader does not start it.")
    return None


def _main_class(archive: Archive) -> str:
    try:
        data = archive.read(MANIFEST, 1 << 20) if MANIFEST in archive else b""
        return main_attributes(data).get("main-class", "") if data else ""
    except (MetadataError, TrustError):
        return ""

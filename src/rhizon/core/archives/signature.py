"""Whether a signed archive is what was signed (JAR File Specification, "Signed JAR File").

A manifest has the digest of each entry, a signature file (``.SF``) those of the manifest, and a block beside it
(``.RSA``, ``.DSA``, ``.EC``) signs that file. A runtime checks all three when it loads a class: where an entry differs,
that class cannot be loaded; where the rest does not hold, none can. A signature that it no longer accepts counts as
none. Classes of one package must have the same signers.
"""

import base64
import hashlib
import re
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from rhizon.core.archives.classes import MOST_MANIFEST
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.facts import MANIFEST
from rhizon.core.archives.metadata.fields import MetadataError
from rhizon.core.archives.metadata.flat import manifest_sections
from rhizon.core.archives.signature_block import DIGESTS, verify_block
from rhizon.core.finding import Finding, Severity
from rhizon.core.names import printable
from rhizon.core.units import counted

__all__ = ["signature_findings"]

_BLOCK = re.compile(r"META-INF/([^/]+)\.(RSA|DSA|EC)", re.IGNORECASE)
_DIGEST_NAMES = {f"{name[:3]}-{name[3:]}-digest": name for name in DIGESTS}
_LINE_END = rb"(?:\r\n|\n|\r)"
# up to and with the empty line that ends a section, and to the end of the file where none does
_SECTION = re.compile(rb"(?:[^\r\n]+" + _LINE_END + rb")+(?:" + _LINE_END + rb"|\Z)|[^\r\n]+\Z")


class _Section(NamedTuple):
    """A section of a manifest or signature file: its attributes, and the bytes that a digest of it is over."""

    attributes: dict[str, str]
    raw: bytes

    def digests(self, suffix: str = "") -> Iterator[tuple[str, str]]:
        """Algorithms with the values that are written, of those that count."""
        for attribute, algorithm in _DIGEST_NAMES.items():
            if attribute + suffix in self.attributes:
                yield algorithm, self.attributes[attribute + suffix]


def signature_findings(archive: Archive) -> list[Finding]:
    """What of a signed archive is not as it was signed; nothing for an unsigned one. Raises TrustError where reading
    its entries costs too much."""
    signatures = [pair for pair in _signatures(archive) if pair is not None]
    if not signatures or MANIFEST not in archive:
        return []
    data = archive.read(MANIFEST, MOST_MANIFEST)
    try:
        sections = _sections(data)
        counts = [_broken(block, signed, data, sections) for block, signed in signatures]
    except MetadataError:
        return []  # not a manifest: a runtime finds no signature in it either
    if any(counts):
        what = f"its signature does not hold: {next(filter(None, counts))}; Java loads no class of it"
        return [_finding(archive.source, "error", what)]
    if all(one is None for one in counts):
        return []
    changed = list(_changed(archive, sections[1:]))
    classes = [one for one in changed if one.endswith(".class")]
    files = [one for one in changed if not one.endswith(".class")]
    unsigned = _unsigned(archive, sections[1:])
    differ = "differ from its signature"
    found: list[tuple[Severity, Sequence[str], str]] = [
        ("error", classes, f"{counted(len(classes), 'class', 'classes')} {differ}"),
        ("warning", files, f"{counted(len(files), 'file')} {differ}"),
        ("warning", unsigned, "classes that are not signed, in packages with signed ones; Java refuses to load both"),
    ]
    return [_finding(archive.source, level, f"{what}: {_some(names)}") for level, names, what in found if names]


def _signatures(archive: Archive) -> Iterator[tuple[bytes, bytes]]:
    """The blocks of an archive, each with the signature file of the same name."""
    by_name = {path.upper(): path for path in archive.names() if path.startswith("META-INF/")}
    for path in archive.names():
        match = _BLOCK.fullmatch(path)
        signed = by_name.get(f"META-INF/{match[1]}.SF".upper()) if match else None
        if signed is not None:
            yield archive.read(path, 1 << 20), archive.read(signed, MOST_MANIFEST)


def _sections(data: bytes) -> list[_Section]:
    """The sections of a manifest, the main one first. Raises MetadataError."""
    return [_Section(manifest_sections(found[0])[0], found[0]) for found in _SECTION.finditer(data)]


def _broken(block: bytes, signed: bytes, manifest: bytes, sections: Sequence[_Section]) -> str | None:
    """Why a signature does not hold; empty where it does, None where a runtime ignores it. Raises MetadataError."""
    said = _sections(signed)
    if not said:
        return None
    verdict = verify_block(block, signed)
    if verdict != "holds":
        return "its block does not sign it" if verdict == "broken" else None
    if any(_is_digest(manifest, *one) for one in said[0].digests("-manifest")):
        return ""
    main = list(said[0].digests("-manifest-main-attributes"))
    if main and not any(_is_digest(sections[0].raw, *one) for one in main):
        return "the manifest's main section was changed"
    by_name: dict[str, list[_Section]] = {}
    for one in sections[1:]:
        by_name.setdefault(one.attributes.get("name", ""), []).append(one)
    for one in said[1:]:
        name, digests = one.attributes.get("name", ""), list(one.digests())
        if digests and name not in by_name:
            return f"the manifest no longer names {printable(name, 120)}"
        # one that is named twice is digested over both; what comes of that is not told here
        if digests and len(by_name[name]) == 1 and not any(_is_digest(by_name[name][0].raw, *each) for each in digests):
            return f"the manifest's section on {printable(name, 120)} was changed"
    return ""


def _is_digest(data: bytes, algorithm: str, value: str) -> bool:
    """Whether a written digest is that of the bytes, with or without the empty line at their end: signers differ."""
    short = re.sub(_LINE_END + rb"\Z", b"", data)
    return any(base64.b64encode(hashlib.new(algorithm, one).digest()).decode() == value for one in (data, short))


def _changed(archive: Archive, sections: Iterable[_Section]) -> Iterator[str]:
    """Entries whose bytes are not those that the manifest has digests of; one that is not there is none."""
    known: dict[tuple[str, str], str] = {}  # a manifest may name one entry thousands of times
    for section in sections:
        name = section.attributes.get("name", "")
        for algorithm, value in section.digests() if name in archive else ():
            if (name, algorithm) not in known:
                digest = hashlib.new(algorithm, archive.read(name)).digest()
                known[name, algorithm] = base64.b64encode(digest).decode()
            if known[name, algorithm] != value:
                yield name
                break


def _unsigned(archive: Archive, sections: Iterable[_Section]) -> list[str]:
    """Classes that no digest is of, in packages where others have one."""
    signed = {section.attributes.get("name", "") for section in sections if any(section.digests())}
    packages = {name.rpartition("/")[0] for name in signed if name.endswith(".class")}
    classes = (path for path in archive.names() if path.endswith(".class") and path not in signed)
    return [path for path in classes if path.rpartition("/")[0] in packages]


def _some(names: Sequence[str]) -> str:
    return ", ".join(printable(name, 120) for name in names[:3]) + (" …" if len(names) > 3 else "")


def _finding(source: str, severity: Severity, what: str) -> Finding:
    remedy = "It was changed after signing. Download it from the author."
    return Finding(code="signature-broken", severity=severity, subject=source, what=what, remedy=remedy)

"""Whether the bytes of a signed archive are those that were signed (JAR File Specification, "Signed JAR File")."""

import base64
import hashlib

from rhizon.core.archives.classes import MOST_MANIFEST
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.facts import MANIFEST
from rhizon.core.archives.metadata.fields import MetadataError
from rhizon.core.archives.metadata.flat import manifest_sections
from rhizon.core.finding import Finding

__all__ = ["signature_findings"]

_DIGESTS = {"sha-256-digest": "sha256", "sha1-digest": "sha1", "sha-512-digest": "sha512", "sha-384-digest": "sha384"}


def _digest(archive: Archive, name: str, algorithm: str) -> str:
    data = archive.read(name) if name in archive else b""
    return base64.b64encode(hashlib.new(algorithm, data, usedforsecurity=False).digest()).decode()


def signature_findings(archive: Archive) -> list[Finding]:
    """Of a signed archive: entries whose bytes are not those that were signed (JAR File Specification, "Signed JAR
    File"). Whose signature it is, is not looked at."""
    if MANIFEST not in archive or not any(
        path.startswith("META-INF/") and path.endswith(".SF") for path in archive.names()
    ):
        return []
    changed = []
    digests: dict[tuple[str, str], str] = {}  # a manifest may name one entry thousands of times
    try:
        for section in manifest_sections(archive.read(MANIFEST, MOST_MANIFEST))[1:]:
            name = section.get("name", "")
            for attribute, algorithm in _DIGESTS.items():
                if attribute in section:
                    if (name, algorithm) not in digests:
                        digests[name, algorithm] = _digest(archive, name, algorithm)
                    if digests[name, algorithm] != section[attribute]:
                        changed.append(name)
    except MetadataError:
        changed.append(MANIFEST)
    if not changed:
        return []
    return [
        Finding(
            code="signature-broken",
            severity="error",
            subject=archive.source,
            what=f"{len(changed)} of its entries differ from its signature: {', '.join(changed[:3])}",
            remedy="It was changed after signing. Download it from the author.",
        )
    ]

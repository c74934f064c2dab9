"""One result of a check."""

from typing import Literal

import msgspec

__all__ = ["SEVERITIES", "Finding", "Severity", "worst_first"]

Severity = Literal["error", "warning", "info"]
SEVERITIES: tuple[Severity, ...] = ("error", "warning", "info")


class Finding(msgspec.Struct, frozen=True, kw_only=True):
    """A stable code (docs/findings.md), how bad it is, what it is about, what, and how to mend it."""

    code: str
    severity: Severity
    subject: str
    what: str
    remedy: str = ""


def worst_first(findings: list[Finding]) -> list[Finding]:
    """Errors before warnings before the rest, each in a stable order."""
    return sorted(findings, key=lambda f: (SEVERITIES.index(f.severity), f.subject, f.code, f.what))

"""One result of a check."""

from collections.abc import Sequence
from typing import Literal

import msgspec

from rhizon.core.units import counted

__all__ = ["SEVERITIES", "Finding", "Severity", "counts_text", "worst_first"]

Severity = Literal["error", "warning", "note"]
SEVERITIES: tuple[Severity, ...] = ("error", "warning", "note")


class Finding(msgspec.Struct, frozen=True, kw_only=True):
    """A stable code (docs/findings.md), its severity, what it is about, the fact, and how to fix it ("" where there is
    nothing to do)."""

    code: str
    severity: Severity
    subject: str
    what: str
    remedy: str = ""

    def with_code(self) -> "Finding":
        """The same with its code behind the fact, for a person who looks it up."""
        return msgspec.structs.replace(self, what=f"{self.what} [{self.code}]")


def worst_first(findings: list[Finding]) -> list[Finding]:
    """Errors before warnings before the rest, each in a stable order."""
    return sorted(findings, key=lambda f: (SEVERITIES.index(f.severity), f.subject, f.code, f.what))


def counts_text(findings: Sequence[Finding]) -> str:
    """``2 problems, 1 note``; "no problems" where nothing is an error or a warning."""
    counts = {severity: sum(one.severity == severity for one in findings) for severity in SEVERITIES}
    parts = [counted(counts["error"], "problem")] if counts["error"] else []
    parts += [counted(counts["warning"], "warning")] if counts["warning"] else []
    notes = [counted(counts["note"], "note")] if counts["note"] else []
    return ", ".join([*(parts or ["no problems"]), *notes])

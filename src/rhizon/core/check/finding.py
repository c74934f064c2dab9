"""Findings of rules, in one line."""

from rhizon.core.finding import Finding, Severity
from rhizon.core.names import printable

__all__ = ["error", "note", "warning"]


def _made(severity: Severity, code: str, subject: str, what: str, remedy: str) -> Finding:
    return Finding(
        code=code, severity=severity, subject=printable(subject, 120), what=printable(what, 400), remedy=remedy
    )


def error(code: str, subject: str, what: str, remedy: str) -> Finding:
    """The server will not start, or something will be lost."""
    return _made("error", code, subject, what, remedy)


def warning(code: str, subject: str, what: str, remedy: str) -> Finding:
    """The server will start wrong."""
    return _made("warning", code, subject, what, remedy)


def note(code: str, subject: str, what: str, remedy: str) -> Finding:
    """Fine, and worth knowing."""
    return _made("note", code, subject, what, remedy)

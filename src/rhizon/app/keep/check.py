"""Check an instance: what is wrong, what is odd, what would keep it from starting. Nothing is changed."""

from pathlib import Path

import msgspec

from rhizon.app.foresee.foresee import foresee
from rhizon.app.foresee.records import record_findings
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import started_elsewhere
from rhizon.app.instance.state import require_loaded
from rhizon.core.finding import Finding, worst_first

__all__ = ["CheckResult", "check"]


class CheckResult(msgspec.Struct, frozen=True, kw_only=True):
    """The server and what was found; ``process`` is its process id while it runs, ``files`` how many were checked."""

    folder: str
    name: str
    note: str
    game: str
    game_title: str
    files: int
    process: int | None
    findings: tuple[Finding, ...]

    @property
    def sound(self) -> bool:
        """Nothing of severity error was found."""
        return not any(one.severity == "error" for one in self.findings)


def check(host: Host, folder: Path) -> CheckResult:
    """Raises :class:`StateError` when there is no instance, or a document of it is not available anywhere."""
    state = require_loaded(host, host.home(folder))
    home, game, instance = state.home, state.game, state.instance
    mark = home.running()
    running = mark.pid if mark is not None else started_elsewhere(host, home)
    found = foresee(host, state, running)
    wrong = {one.subject for one in found if one.severity == "error"}
    records = (one for one in record_findings(host, state) if not _said_better(one, wrong))
    findings = [*records, *found]
    return CheckResult(
        folder=str(home.folder),
        name=instance.name,
        note=instance.note,
        game=game.id,
        game_title=game.title,
        files=len(state.inventory.files),
        process=running,
        findings=tuple(worst_first(findings)),
    )


def _said_better(record: Finding, wrong: set[str]) -> bool:
    """Whether a record only says that something was changed by hand of which a rule says that it is wrong."""
    if record.code == "setting-differs":
        return f"{record.subject}: {record.what.partition(' is ')[0]}" in wrong
    return record.code == "unknown-content" and record.subject in wrong

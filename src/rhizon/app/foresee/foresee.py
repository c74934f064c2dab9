"""What the rules find in a server, wherever a person asks: in a check, before a start, after a change."""

from collections.abc import Collection

from rhizon.adapters.instances import InstanceFolder
from rhizon.app.archives.on_server import content_findings, scan_content
from rhizon.app.foresee.observe import observe
from rhizon.app.host import Host
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.core.check.registry import EVERYTHING, Topic, as_this_game, foreseen
from rhizon.core.finding import Finding

__all__ = ["foresee", "foresee_after"]


def foresee(
    host: Host,
    state: InstanceState,
    running: int | None,
    topics: Collection[Topic] = EVERYTHING,
    *,
    ask_runtime: bool = True,
) -> list[Finding]:
    """Findings on these topics, in the order of the rules; ``running`` is the process of the server where it runs."""
    scanned = scan_content(host, state) if "content" in topics or "runtime" in topics else []
    found = foreseen(observe(host, state, scanned, running, ask_runtime=ask_runtime), topics)
    if "content" in topics:
        found += as_this_game(state.game, content_findings(state, scanned))
    return found


def foresee_after(host: Host, home: InstanceFolder, topics: Collection[Topic]) -> tuple[Finding, ...]:
    """What is worth telling of a stopped server after a change that touched these topics: errors and warnings."""
    found = foresee(host, require_instance_state(host, home), None, topics, ask_runtime=False)
    return tuple(one for one in found if one.severity != "note")

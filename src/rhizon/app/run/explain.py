"""What explains a failed start beside its log: which setting, file and number of the server, or what of the machine."""

import contextlib
import re

from rhizon.adapters.instances import InstanceFolder
from rhizon.app.foresee.foresee import foresee
from rhizon.app.foresee.records import broken_files
from rhizon.app.host import Host
from rhizon.app.instance.state import require_instance_state
from rhizon.core.allocate.port_roles import every_number, port_places
from rhizon.core.check.machine_rules import heap_command
from rhizon.core.errors import NotReadyError, RhizonError
from rhizon.core.finding import Finding

__all__ = ["explained"]

# The findings that are the cause of a failure with that code.
CAUSES: dict[str, tuple[str, ...]] = {
    "address-absent": ("address-absent",),
    "port-privileged": ("port-privileged",),
    "port-in-use": ("port-taken", "port-twice"),
    "disk-full": ("disk-full", "disk-short"),
    "not-writable": ("not-writable", "settings-read-only", "settings-owner"),
    "open-files": ("open-files",),
    "out-of-memory": ("memory-below-least", "memory-tight", "memory-short"),
    "start-killed": ("memory-tight", "memory-short", "memory-overcommitted"),
    "bad-encoding": ("settings-encoding",),
}
HEAP_STEP = 64
# Failures that a placed file which is missing or changed may cause.
BY_FILES = (
    *("class-missing", "class-too-new", "client-only", "archive-missing", "archive-damaged", "content-refused"),
    *("start-timeout", "start-ended", "start-crashed"),
)
UNEXPLAINED = ("start-timeout", "start-ended")


def explained(host: Host, home: InstanceFolder, wrong: NotReadyError) -> NotReadyError:
    """The same failure with what the rules find now that is its cause; where its sign is none that names a cause, with
    every error that they find."""
    broken = _broken_placed(host, home, wrong.code)
    if broken:
        return _better(wrong, broken, broken[0].remedy)
    unexplained = wrong.code in UNEXPLAINED and wrong.culprit is None
    if not unexplained and wrong.code not in CAUSES:
        return wrong
    try:
        found = foresee(host, require_instance_state(host, home), None, ask_runtime=False)
    except RhizonError:  # what cannot be explained is told as it is
        return wrong
    causes = [one for one in found if _is_cause(one, wrong.code)]
    said = [f"{one.subject}: {one.what}" for one in causes[:3]]
    if not causes and wrong.code.startswith("port-"):
        said = _roles_named(host, home, " ".join(wrong.details))
    hint = causes[0].remedy if causes else wrong.hint
    if wrong.code == "out-of-memory":
        more, hint = _more_memory(host, home, wrong.culprit, hint if causes else "")
        said += more
    if not said:
        return wrong
    return _with_details(wrong, said, hint)


def _broken_placed(host: Host, home: InstanceFolder, code: str) -> list[Finding]:
    """Placed files that are missing or changed, where that may be why."""
    if code not in BY_FILES:
        return []
    with contextlib.suppress(RhizonError):
        return [one for one in broken_files(require_instance_state(host, home)) if one.severity == "error"]
    return []


def _better(wrong: NotReadyError, causes: list[Finding], hint: str) -> NotReadyError:
    """The same failure with its causes; what the log blames may only be their victim."""
    return _with_details(wrong, [f"{one.subject}: {one.what}" for one in causes[:3]], hint)


def _with_details(wrong: NotReadyError, said: list[str], hint: str) -> NotReadyError:
    better = NotReadyError(wrong.code, wrong.message, details=[*wrong.details, *said], hint=hint)
    better.culprit, better.frames = wrong.culprit, wrong.frames
    return better


def _more_memory(host: Host, home: InstanceFolder, culprit: str | None, hint: str) -> tuple[list[str], str]:
    """How much it had, what was being started then, and the command that gives it more, where no rule says one."""
    instance = require_instance_state(host, home).instance
    said = [f"it had {instance.heap_mib} MiB of heap" + (f"; {culprit} was being started" if culprit else "")]
    more = -(-instance.heap_mib * 3 // 2 // HEAP_STEP) * HEAP_STEP
    return said, hint or f"Give it more: {heap_command(instance, str(home.folder), more)}"


def _is_cause(found: Finding, code: str) -> bool:
    if code in CAUSES:
        return found.code in CAUSES[code]
    return found.severity == "error"


def _roles_named(host: Host, home: InstanceFolder, line: str) -> list[str]:
    """Ports of the server whose number a line of its log has, with the setting that holds it."""
    state = require_instance_state(host, home)
    numbers = {int(one) for one in re.findall(r"(?<!\d)\d{1,5}(?!\d)", line)}
    places = port_places(state.game, state.lock)
    found = []
    for name, number in every_number(state.game, state.instance.ports).items():
        if number in numbers:
            stores = places[name.partition("+")[0]].store
            held = f" ({', '.join(f'{one.file}: {one.key}' for one in stores)})" if stores else ""
            found.append(f"{number} is the {name} port{held}")
    return found

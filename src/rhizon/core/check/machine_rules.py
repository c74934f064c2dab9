"""Rules on what the machine gives: memory, disk, rights, limits, the runtime, the clock."""

import re
from collections.abc import Iterator
from datetime import datetime, timedelta

from rhizon.core.allocate.memory import budget
from rhizon.core.check.finding import error, note, warning
from rhizon.core.check.observation import Observation
from rhizon.core.check.settings_rules import settings_now
from rhizon.core.finding import Finding
from rhizon.core.model.instance import Instance
from rhizon.core.units import size_text
from rhizon.core.words import command_line

__all__ = [
    "clock",
    "disk",
    "give_heap",
    "heap_command",
    "libraries",
    "memory",
    "open_files",
    "programs",
    "rights",
    "runtime",
    "runtime_environment",
    "runtime_for_content",
]

LEAST_FREE = 64 << 20  # bytes: below, a server cannot even write its log and world
LITTLE_FREE = 1 << 30
LEAST_OPEN_FILES = 1024
LONG_PATH = 200  # characters of the server's folder; content adds to that
AHEAD = timedelta(days=2)  # of a file to the clock: more than time zones explain
_SET_CLOCK = "Set it; backups are kept and removed by their time."
_ALSO_RUNS = (("x86-64", "x86"), ("ARM64", "ARM"))  # most such processors, and their systems, take the older ones
OLDEST_CLOCK = "2026-01-01"  # before this program was made
TIGHT = 0.75  # of the estimated heap
TOO_TIGHT = 0.4


def memory(seen: Observation) -> Iterator[Finding]:
    """Heap below what the game or its world and players need, or above what the machine has."""
    game, instance, machine = seen.game, seen.instance, seen.machine
    needs = instance.heap_mib + game.memory.outside_heap_mib
    wanted = budget(game, seen.lock.releases, settings_now(seen)).parts_mib
    least = game.memory.least_mib
    if instance.heap_mib < least:
        what = f"{instance.heap_mib} MiB of heap, and {game.title} needs at least {least}"
        yield error("memory-below-least", "memory", what, f"Give it more: {give_heap(seen, max(least, wanted))}")
    if needs > machine.memory_mib:
        what = f"the server may use {needs} MiB, the host has {machine.memory_mib}"
        fits = max(min(wanted, machine.memory_mib * 3 // 4 - game.memory.outside_heap_mib), least)
        yield error("memory-short", "memory", what, f"Give it less: {give_heap(seen, fits)}")
    elif machine.granted_mib > machine.memory_mib:
        what = f"the {machine.servers} servers of this machine may use {machine.granted_mib} MiB together; it has "
        yield warning("memory-overcommitted", "memory", f"{what}{machine.memory_mib}", "Run fewer of them at once.")
    if instance.memory_mib is None and instance.heap_mib < TIGHT * wanted:
        what = f"its settings ask for about {wanted} MiB of heap, and it has {instance.heap_mib}"
        give = f"Give it that: {give_heap(seen, wanted)}"
        if instance.heap_mib < TOO_TIGHT * wanted:
            yield error("memory-tight", "memory", f"{what}: it will run out", give)
        else:
            yield warning("memory-tight", "memory", what, give)


def give_heap(seen: Observation, mib: int) -> str:
    """The command that gives the server another heap."""
    return heap_command(seen.instance, seen.folder, mib)


def heap_command(instance: Instance, folder: str, mib: int) -> str:
    """The same for a server in a folder."""
    return command_line("rhizon", "provision", instance.source, folder, "--memory", str(mib))


def disk(seen: Observation) -> Iterator[Finding]:
    """Room for a world that grows, and for its next backup."""
    free = seen.machine.free_bytes
    if free is None:
        return
    world = seen.world.size if seen.world is not None else 0
    if free < LEAST_FREE:
        what = f"{size_text(free)} free on its disk: neither world nor log can be written"
        yield error("disk-full", "disk", what, "Free some space; old backups: rhizon backup --keep")
    elif free < min(LITTLE_FREE, LEAST_FREE + 2 * world):
        what = f"{size_text(free)} free on its disk, and the world has {size_text(world)}"
        yield warning("disk-short", "disk", what, "Free some space before the next backup.")


def rights(seen: Observation) -> Iterator[Finding]:
    """Folders that the server must write and cannot, and a disk from which no program is started."""
    for path in seen.unwritable:
        what = "the server cannot write there: permission, or a read-only disk"
        yield error("not-writable", path, what, "Give it to the user who starts the server: chown -R, chmod u+w")
    if seen.no_programs and seen.game.runtime.family == "none":
        what = "its disk is mounted without programs (noexec), and the server is one"
        yield error("no-programs", seen.folder, what, "Move the server to another disk, or mount this one with exec.")
    if len(seen.folder) > LONG_PATH:
        what = f"the folder has a path of {len(seen.folder)} characters; files of content may not fit"
        yield warning("long-path", seen.folder, what, "Move the server to a shorter path.")


def open_files(seen: Observation) -> Iterator[Finding]:
    """A low limit of open files."""
    limit = seen.machine.open_files
    if limit is not None and limit < LEAST_OPEN_FILES:
        what = f"a process may have {limit} open files; servers with many players need {LEAST_OPEN_FILES} and more"
        yield warning("open-files", "limits", what, "Raise it before the start: ulimit -n 4096")


def runtime(seen: Observation) -> Iterator[Finding]:
    """The runtime that was chosen, as it is now."""
    chosen, now = seen.instance.runtime, seen.runtime
    if chosen is None or now is None:
        return
    other = command_line("rhizon", "provision", seen.instance.source, seen.folder)
    again = f"Install {chosen.family} {chosen.major} again, or take another: {other}"
    if now.state == "missing":
        yield error("runtime-gone", chosen.program, "the runtime was not found", again)
    elif now.state == "not executable":
        yield error("runtime-gone", chosen.program, "the runtime may not be executed", f"chmod +x, or: {again}")
    elif now.state == "silent":
        yield error("runtime-gone", chosen.program, "the runtime no longer responds", again)
    elif now.major != chosen.major:
        what = f"it is now {chosen.family} {now.major}; the server was provisioned for {chosen.major}"
        yield error("runtime-other-major", chosen.program, what, again)
    elif now.version != chosen.version:
        what = f"it was updated from {chosen.version} to {now.version}"
        yield note("runtime-updated", chosen.program, what, "Nothing to do if the server runs well.")


def runtime_environment(seen: Observation) -> Iterator[Finding]:
    """Variables that change how every runtime of this kind starts."""
    for name, value in (seen.runtime.environment if seen.runtime is not None else {}).items():
        heap = re.search(r"-Xmx\S+|-XX:MaxRAM\S*", value)
        what = f"it is set to {value!r}" + (f": {heap[0]} competes with the server's own heap size" if heap else "")
        yield warning("runtime-environment", name, f"{what}; every Java program gets it", f"Unset it: unset {name}")


def runtime_for_content(seen: Observation) -> Iterator[Finding]:
    """Content that was compiled for a newer runtime than the server has."""
    major = seen.runtime.major if seen.runtime is not None else None
    for one in seen.content:
        needs = one.archive.code.java_major if one.archive is not None else None
        if major is not None and needs is not None and needs > major:
            what = f"it needs Java {needs}, and the server runs on {major}"
            yield error("class-too-new", one.path, what, "Get an older release of it, or provision with a newer Java.")


def programs(seen: Observation) -> Iterator[Finding]:
    """The server's program, or its runtime, that was made for another processor or system."""
    own = seen.machine.processor
    for path, made_for in seen.programs.items():
        if own and made_for not in ("", own) and (own, made_for) not in _ALSO_RUNS:
            what = f"it is a program for {made_for}, and this machine is {own}"
            yield error("program-foreign", path, what, "Get the build of it that was made for this machine.")


def libraries(seen: Observation) -> Iterator[Finding]:
    """A native program that needs libraries which this machine does not have."""
    for path, names in seen.missing_libraries.items():
        what = f"it needs {', '.join(names[:4])}, which this machine does not have"
        remedy = "Install the package that has it, or put it into a folder of LD_LIBRARY_PATH."
        yield error("library-missing", path, what, remedy)


def clock(seen: Observation) -> Iterator[Finding]:
    """A clock that is far off: certificates, backups and logs go by it."""
    if seen.machine.now and seen.machine.now < OLDEST_CLOCK:
        what = f"the clock of this machine says {seen.machine.now}"
        yield warning("clock-off", "clock", what, _SET_CLOCK)
    elif seen.machine.now and seen.world is not None and seen.world.newest:
        ahead = datetime.fromisoformat(seen.world.newest) - datetime.fromisoformat(seen.machine.now)
        if ahead > AHEAD:
            what = f"the clock of this machine says {seen.machine.now}, and the world was saved {seen.world.newest}"
            yield warning("clock-off", "clock", what, _SET_CLOCK)

"""Machines through Ansible: a project in a folder of its own, what they have, and what was seen there before."""

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from rhizon.adapters.ansible import TaskResult, answer_of, run_plays, words_of_failure, write_project
from rhizon.adapters.files import make_folders, write_atomic
from rhizon.app.host import Host
from rhizon.app.reporter import Reporter
from rhizon.core.machines.actions import FoundServer
from rhizon.core.machines.ansible import Job, inventory, look_plays
from rhizon.core.model.machines import MachinesFile
from rhizon.core.names import printable
from rhizon.core.yaml_text import to_yaml

__all__ = ["Look", "Seen", "look_at", "play", "read_seen", "write_seen"]

SHOWN = ("stop", "back up", "fetch", "copy", "unpack", "restore", "provision", "start", "start again", "remove", "look")


class Look(msgspec.Struct, frozen=True):
    """The servers that were found, by name, and the machines that were not reached, or refused, and why."""

    servers: dict[str, list[FoundServer]]
    down: dict[str, str]


class Seen(msgspec.Struct, frozen=True):
    """What earlier looks saw: where each server was, and which machines ever answered."""

    servers: dict[str, str] = {}
    machines: tuple[str, ...] = ()


def play(
    folder: Path, file: MachinesFile, job: Job, plays: Sequence[Mapping[str, Any]], variables: Mapping[str, Any],
    reporter: Reporter,
) -> list[TaskResult]:  # fmt: skip
    """Writes the project and runs it. Raises StateError."""
    every = {"rhizon_program": "rhizon", "rhizon_wheels": "", **variables}
    texts = {
        "inventory.yaml": to_yaml([inventory(file, job, every)]),
        "plays.yaml": to_yaml([plays]),
    }
    write_project(folder, texts)

    def tell(one: TaskResult) -> None:
        what = one.task.partition(":")[0]
        if what in SHOWN and one.state == "ok":
            reporter.step(f"{one.machine}: {one.task}")

    return run_plays(folder, tell)


def look_at(folder: Path, file: MachinesFile, variables: Mapping[str, Any], reporter: Reporter) -> Look:
    """Asks every machine for its servers. Raises StateError."""
    reporter.step("looking at the machines")
    results = play(folder, file, Job(), look_plays(), variables, reporter)
    servers: dict[str, list[FoundServer]] = {}
    down: dict[str, str] = {}
    for one in results:
        if one.state != "ok":
            down[one.machine] = printable(words_of_failure(one), 200)
            continue
        answer = answer_of(one) or {}
        for line in (answer.get("result") or {}).get("instances", ()):
            numbers = tuple((line.get("ports") or {}).values())
            where = FoundServer(one.machine, str(line["folder"]), str(line["state"]), numbers)
            servers.setdefault(str(line["name"]), []).append(where)
    answered = {one.machine for one in results}
    down |= {name: "no answer" for name in file.machines if name not in answered}
    reporter.done(f"{len(file.machines) - len(down)} of {len(file.machines)} machines answered")
    return Look(servers, down)


def _seen_file(host: Host, file: MachinesFile) -> Path:
    return host.places.state / "machines" / f"{file.name}.json"


def read_seen(host: Host, file: MachinesFile) -> Seen:
    """What is remembered; nothing where that cannot be read."""
    try:
        return msgspec.json.decode(_seen_file(host, file).read_bytes(), type=Seen)
    except (OSError, msgspec.DecodeError):
        return Seen()


def write_seen(
    host: Host, file: MachinesFile, before: Seen, look: Look, since: Mapping[str, str] | None = None
) -> None:  # fmt: skip
    """Remembers where servers are now, ``since`` the look on other machines; of machines that were not reached, what
    was seen before."""
    servers = {name: machine for name, machine in before.servers.items() if machine in look.down}
    servers |= {name: those[0].machine for name, those in look.servers.items()} | dict(since or {})
    machines = tuple(sorted({*before.machines, *(name for name in file.machines if name not in look.down)}))
    path = _seen_file(host, file)
    make_folders(path.parent)
    seen = Seen(dict(sorted(servers.items())), machines)
    write_atomic(path, json.dumps(msgspec.to_builtins(seen), indent=1).encode())

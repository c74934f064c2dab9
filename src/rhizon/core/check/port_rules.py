"""Rules on ports and addresses, by the numbers that the settings files hold now."""

from collections.abc import Iterator

from rhizon.core.allocate.port_roles import port_places, protocols_of
from rhizon.core.check.finding import error
from rhizon.core.check.observation import Observation
from rhizon.core.finding import Finding
from rhizon.core.words import command_line

__all__ = ["absent_address", "in_use", "numbers", "numbers_in_files", "same_number"]

_EVERYWHERE = ("", "0.0.0.0", "::", "*", "localhost", "127.0.0.1", "::1")
HIGHEST = 65_535


def numbers_in_files(seen: Observation) -> dict[str, tuple[str, str, str]]:
    """For each role the number that the server will find: its text, and the file and key that hold it."""
    found: dict[str, tuple[str, str, str]] = {}
    for role, port in port_places(seen.game, seen.lock).items():
        for place in port.store:
            file = seen.file(place.file)
            if file is not None and place.key in file.values:
                found[role] = (file.values[place.key].strip(), place.file, place.key)
    return found


def _move(seen: Observation) -> str:
    return f"Take a free one: {command_line('rhizon', 'ports', seen.folder, '--move')}"


def numbers(seen: Observation) -> Iterator[Finding]:
    """Numbers that no program can listen on."""
    counts = {port.role: port.count for port in seen.game.ports}
    for role, (text, file, key) in numbers_in_files(seen).items():
        where, last = f"{file}: {key}", counts.get(role, 1) - 1
        if not text.isdecimal():
            yield error("port-invalid", where, f"the {role} port is {text!r}, which is no number", _move(seen))
            continue
        number = int(text)
        if not 1 <= number <= HIGHEST:
            yield error("port-invalid", where, f"the {role} port is {number}; ports are 1 to {HIGHEST}", _move(seen))
        elif number + last > HIGHEST:
            what = f"the {role} ports {number}-{number + last} exceed {HIGHEST}"
            yield error("port-invalid", where, what, _move(seen))
        elif number < seen.machine.first_free_port and not seen.machine.privileged:
            what = f"the {role} port {number} is privileged: only root may listen below {seen.machine.first_free_port}"
            yield error("port-privileged", where, what, _move(seen))


def same_number(seen: Observation) -> Iterator[Finding]:
    """Two roles with one number and one protocol."""
    protocols = protocols_of(seen.game, seen.lock)
    counts = {port.role: port.count for port in seen.game.ports}
    taken: dict[tuple[int, str], str] = {}
    for role, (text, file, key) in numbers_in_files(seen).items():
        if not text.isdecimal():
            continue
        for number in range(int(text), int(text) + min(counts.get(role, 1), 1000)):
            for protocol in protocols.get(role, ()):
                other = taken.setdefault((number, protocol), role)
                if other != role:
                    what = f"port {number} ({protocol}) is the {other} port and the {role} port"
                    yield error("port-twice", f"{file}: {key}", what, _move(seen))
                    break


def in_use(seen: Observation) -> Iterator[Finding]:
    """Ports that another program listens on."""
    if seen.running is None:
        by_number = {one.number: one for one in reversed(seen.ports_in_use)}  # one protocol of each
        remedy = (
            "Stop that program, or move the server to free ports: "
            f"{command_line('rhizon', 'ports', seen.folder, '--move')}"
        )
        for one in sorted(by_number.values(), key=lambda one: one.number):
            what = f"port {one.number} ({one.protocol}) is used by {one.holder}"
            yield error("port-taken", one.role, what, remedy)


def absent_address(seen: Observation) -> Iterator[Finding]:
    """An address to listen on that this machine does not have."""
    definition = seen.game.settings.get("address")
    file = seen.file(definition.store.file) if definition is not None and definition.store is not None else None
    if definition is None or definition.store is None or file is None or not seen.machine.addresses:
        return
    address = file.values.get(definition.store.key, "").strip()
    if address not in _EVERYWHERE and address not in seen.machine.addresses and not address.startswith("127."):
        has = ", ".join(seen.machine.addresses[:6])
        every = command_line("rhizon", "set", seen.folder, f"address={definition.default}")
        what = f"this machine does not have the address {address!r}; it has {has}"
        yield error("address-absent", f"{file.path}: {definition.store.key}", what, f"Listen on every address: {every}")

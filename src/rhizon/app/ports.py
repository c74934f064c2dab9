"""The roles of an instance's ports and what stands behind each."""

from rhizon.core.model.catalog import ExtraPort
from rhizon.core.model.game import GameDefinition, PortDefinition
from rhizon.core.model.lock import Lock

__all__ = ["port_places", "protocols_of"]


def port_places(game: GameDefinition, lock: Lock) -> dict[str, PortDefinition | ExtraPort]:
    """Every role: the game's, then those of content; a role that is taken gets its item's id before it."""
    places: dict[str, PortDefinition | ExtraPort] = {port.role: port for port in game.ports}
    for release in lock.on_server():
        for port in release.ports:
            places[port.role if port.role not in places else f"{release.id}-{port.role}"] = port
    return places


def protocols_of(game: GameDefinition, lock: Lock) -> dict[str, tuple[str, ...]]:
    """The protocols of each role."""
    return {role: port.protocols for role, port in port_places(game, lock).items()}

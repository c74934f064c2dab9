"""What an instance should be: its ports, memory and settings, as wished for and as there is room."""

from collections.abc import Mapping, Sequence

from rhizon.adapters.ledger import Entry
from rhizon.app.host import Host
from rhizon.app.instance.reservations import ports_for, server_name
from rhizon.app.provision.choose import Choice
from rhizon.app.provision.generate import new_seed
from rhizon.app.provision.wishes import ProvisionWishes
from rhizon.core.allocate.memory import grant
from rhizon.core.allocate.port_roles import port_places
from rhizon.core.errors import InputError
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance, LifeRules, PlayersInfo
from rhizon.core.names import suggestions
from rhizon.core.remote.limits import heap_within, ports_within

__all__ = ["allocated"]


def allocated(
    host: Host,
    choice: Choice,
    wishes: ProvisionWishes,
    before: Instance | None,
    others: Sequence[Entry],
    *,
    runs: bool = False,
) -> Instance:
    """``runs``: the server does so now.

    Raises InputError (no such port), StateError (a port or memory that is not free)."""
    source, game = choice.source, choice.game
    places = port_places(choice.game, choice.lock)
    fixed = dict(source.ports) | dict(wishes.ports)
    for role in fixed:
        if role not in places:
            guess = suggestions(role, places, 1)
            raise InputError(
                "unknown-port",
                f"there is no port role {role}",
                hint=f"Did you mean {guess[0]}?" if guess else f"Roles: {', '.join(places)}",
            )
    counts = {one.role: one.count for one in game.ports}
    fixed = ports_within(choice.remote, {role: counts.get(role, 1) for role in places}, fixed)
    ports = ports_for(host, game, choice.lock, before.ports if before else {}, others, fixed, runs=runs)
    memory = host.memory(sum(one.memory_mib for one in others))
    typed = wishes.memory_mib if wishes.memory_mib is not None else (before.memory_mib if before else None)
    heap = heap_within(choice.remote, game, choice.budget, typed if typed is not None else source.memory_mib)
    heap = grant(game, choice.budget, memory, heap)
    settings, chosen = _settings(choice, wishes, before)
    drawn = tuple(name for name in (before.drawn if before else ()) if name not in wishes.settings)
    settings |= {name: before.settings[name] for name in drawn if before is not None and name in before.settings}
    seed = game.world.seed_setting
    if before is None and wishes.world is None and _unset(game, settings, seed):
        settings[seed] = game.settings[seed].checked(new_seed())
        drawn = (seed,)
    return Instance(
        format="rhizon-instance/1",
        name=server_name(wishes.name, before.name if before else None, source.name, others),
        game=game.id,
        note=before.note if before else "",
        source=str(source.path.resolve()),
        catalogs=wishes.remember_catalogs or choice.catalogs.addresses,
        runtime=choice.runtime,
        heap_mib=heap,
        memory_mib=typed,
        ports=ports,
        settings=settings,
        chosen=chosen,
        without=choice.changes.without,
        held=dict(choice.changes.held),
        drawn=drawn,
        world_from=before.world_from if before else "",
        licence=before.licence if before else None,
        first_start_done=before.first_start_done if before else False,
        life=before.life if before else LifeRules(),
        schedule=before.schedule if before else (),
        rented=choice.rented,
        players=before.players if before else PlayersInfo(),
    )


def _unset(game: GameDefinition, settings: Mapping[str, str | int | bool], seed: str) -> bool:
    """Whether the game would draw a seed by itself, which no one would know then."""
    definition = game.settings.get(seed)
    if definition is None or definition.secret or settings.get(game.world.template_setting):
        return False
    return definition.type in ("text", "integer") and settings.get(seed, definition.default) in ("", 0)


def _settings(
    choice: Choice, wishes: ProvisionWishes, before: Instance | None
) -> tuple[dict[str, str | int | bool], tuple[str, ...]]:
    """All settings, and the names of those that a person chose beside the source.

    What a person chose stays, and so does the world in use unless another is typed; what only an earlier source asked
    for goes back to the game's default.
    """
    if before is None:
        return choice.settings, tuple(sorted(wishes.settings))
    game = choice.game
    settings = {name: game.settings[name].default for name in before.settings if name in game.settings}
    settings |= choice.settings
    chosen = tuple(sorted({*before.chosen, *wishes.settings} & game.settings.keys()))
    kept = set(before.chosen) - wishes.settings.keys()
    settings |= {name: value for name, value in before.settings.items() if name in kept and name in game.settings}
    world = game.world.name_setting
    if before.first_start_done and world in settings and world not in wishes.settings:
        settings[world] = before.settings.get(world, game.settings[world].default)
    return settings, chosen

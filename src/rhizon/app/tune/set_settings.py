"""Change settings of an instance that is there."""

from collections.abc import Callable, Mapping
from pathlib import Path

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.app.host import Host
from rhizon.app.instance.change import InstanceState, apply_change, require_instance_state, settings_change
from rhizon.app.instance.edited_files import FileDiff
from rhizon.app.instance.exclusive import exclusive, require_stopped
from rhizon.app.instance.native_files import native_values
from rhizon.app.instance.worlds import find_origin
from rhizon.app.reporter import Reporter
from rhizon.app.tune.list_settings import house_settings
from rhizon.core.changes import ValueChange
from rhizon.core.errors import InputError, StateError
from rhizon.core.model.base import SettingValue
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.setting import SettingDefinition
from rhizon.core.plan import Step
from rhizon.core.secret import Secret, revealed
from rhizon.core.settings.apply import check_secrets, checked_settings, in_file, more_or_fewer
from rhizon.core.settings.dialects import DIALECTS

__all__ = ["SetResult", "set_settings"]


class SetResult(msgspec.Struct, frozen=True, kw_only=True):
    """What was set, or would be. Secrets are named in ``secrets`` and shown nowhere; ``unknown`` are settings of a
    house standard that the game does not have."""

    folder: str
    name: str
    planned: bool
    settings: tuple[ValueChange, ...]
    secrets: tuple[str, ...]
    unknown: tuple[str, ...]
    steps: tuple[Step, ...]
    diffs: tuple[FileDiff, ...]
    kept: int | None


def set_settings(
    host: Host,
    folder: Path,
    settings: Mapping[str, str],
    secrets: Mapping[str, Secret],
    reporter: Reporter,
    *,
    house: Path | None = None,
    stop_first: bool = False,
    dry_run: bool = False,
) -> SetResult:
    """Writes settings into the server's own files, in one transaction that ``rhizon undo`` takes back. What a person
    sets so outlasts every update. ``house`` is a house standard: what the game does not have of it is told. Raises
    InputError (no such setting, a wrong value), :class:`StateError`."""
    home = host.home(folder).required()
    if not settings and not secrets and house is None:
        raise InputError("usage", "there is nothing to set", hint="As in: rhizon set DIR max_players=24 pvp=no")
    if dry_run:
        return _set(host, home, settings, secrets, house, write=False)
    with exclusive(host, home, reporter):
        require_stopped(host, home, reporter, stop_first=stop_first)
        return _set(host, home, settings, secrets, house, write=True)


def _names_now(home: InstanceFolder, was: Instance, name: str, one: SettingDefinition) -> SettingValue:
    if one.store is None:
        return was.settings.get(name, one.default)
    return in_file(one, DIALECTS[one.store.dialect], native_values(home, one.store))[0] or ""


def _whole_lists(
    game: GameDefinition, settings: Mapping[str, SettingValue], now: Callable[[str, SettingDefinition], SettingValue]
) -> dict[str, SettingValue]:
    """The same with ``NAME+`` (these names too) and ``NAME-`` (without these) as the whole list that is meant."""
    made: dict[str, SettingValue] = {}
    for key, value in settings.items():
        name, sign = key[:-1], key[-1:]
        one = game.settings.get(name)
        if sign not in ("+", "-") or key in game.settings or one is None:
            made[key] = value
            continue
        if one.type != "names":
            raise InputError(
                "bad-setting",
                f"{name} is no list of names, so nothing can be added to it or taken from it",
                hint=f"Set it: {name}={one.default}",
            )
        try:
            made[name] = more_or_fewer(one, made[name] if name in made else now(name, one), sign, value)
        except ValueError as wrong:
            raise InputError("bad-setting", f"{name}: {wrong}", hint=f"As in: {name}{sign}=NAME,NAME") from None
    return made


def _same_names(game: GameDefinition, name: str, before: str | int | bool, after: str | int | bool) -> bool:
    """Whether a list of names holds the same ones: their order is nobody's matter."""
    one = game.settings[name]
    return one.type == "names" and set(one.names(before)) == set(one.names(after))


def _set(
    host: Host,
    home: InstanceFolder,
    settings: Mapping[str, str],
    secrets: Mapping[str, Secret],
    house: Path | None,
    *,
    write: bool,
) -> SetResult:
    before = require_instance_state(home)
    was = before.instance
    game = host.game_of(was, before.lock)
    if not was.first_start_done:
        raise StateError(
            "first-start-pending",
            "the first start has not been done yet: the server has not written its own files",
            hint=f"Run: rhizon provision {was.source} {home.folder} --set NAME=VALUE",
        )
    standard, unknown = house_settings(game, house) if house is not None else ({}, ())
    values: dict[str, str | int | bool] = {}

    def now(name: str, one: SettingDefinition) -> SettingValue:
        return values[name] if name in values else _names_now(home, was, name, one)

    for wanted, source in ((standard, house.name if house is not None else ""), (settings, "the command line")):
        values |= checked_settings(game, _whole_lists(game, wanted, now), source)
    check_secrets(game, secrets)
    instance = msgspec.structs.replace(
        was,
        settings={**was.settings, **values},
        chosen=tuple(sorted({*was.chosen, *values})),
        drawn=tuple(one for one in was.drawn if one not in values),
    )
    find_origin(home, game, before.lock, instance, None)  # a template that is not there is told now
    after = InstanceState(lock=before.lock, instance=instance, inventory=before.inventory)
    plan, diffs = settings_change(host.store, home, game, before, after, {**values, **revealed(secrets)}, ports=False)
    names = ", ".join(sorted({*values, *secrets}))
    kept = apply_change(host.store, home, game, before, after, plan, f"set {names}") if write else None
    return SetResult(
        folder=str(home.folder),
        name=was.name,
        planned=not write,
        settings=tuple(
            ValueChange(name=name, before=was.settings.get(name, game.settings[name].default), after=value)
            for name, value in values.items()
            if not _same_names(game, name, was.settings.get(name, ""), value)
        ),
        secrets=tuple(sorted(secrets)),
        unknown=unknown,
        steps=plan.steps,
        diffs=diffs,
        kept=kept,
    )

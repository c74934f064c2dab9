"""Change settings of an instance that is there."""

import time
from collections.abc import Callable, Mapping
from pathlib import Path

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.app.foresee.foresee import foresee_after
from rhizon.app.host import Host
from rhizon.app.instance.change import apply_change, settings_change
from rhizon.app.instance.edited_files import FileDiff
from rhizon.app.instance.exclusive import console_of, exclusive, require_stopped
from rhizon.app.instance.native_files import native_values
from rhizon.app.instance.state import require_instance_state
from rhizon.app.instance.worlds import find_origin
from rhizon.app.reporter import Reporter
from rhizon.app.tune.list_settings import preset_settings
from rhizon.core.changes import ValueChange
from rhizon.core.errors import InputError, StateError
from rhizon.core.finding import Finding
from rhizon.core.model.base import SettingValue
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.setting import NAME_WORD, SettingDefinition
from rhizon.core.plan import Step
from rhizon.core.secret import Secret, revealed
from rhizon.core.settings.apply import check_secrets, checked_settings, in_file, more_or_fewer
from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.words import command_line

__all__ = ["SetResult", "SetWishes", "set_settings"]

WRITE_SECONDS = 5.0  # until a server has written down what was typed


class SetResult(msgspec.Struct, frozen=True, kw_only=True):
    """What was set, or would be. Secrets are named in ``secrets`` and shown nowhere; ``unknown`` are settings of a
    preset that the game does not have; ``live`` is what was typed into the
    running server, which wrote its files itself; ``findings`` is what the values mean for the next start."""

    folder: str
    name: str
    planned: bool
    settings: tuple[ValueChange, ...]
    secrets: tuple[str, ...]
    unknown: tuple[str, ...]
    steps: tuple[Step, ...]
    diffs: tuple[FileDiff, ...]
    kept: int | None
    live: tuple[str, ...] = ()
    findings: tuple[Finding, ...] = ()


class SetWishes(msgspec.Struct, frozen=True, kw_only=True):
    """What a person asks for: settings as typed (a list of names also as ``NAME+`` and ``NAME-``), secrets, and a
    settings ``preset``, of which what the game does not have is skipped."""

    settings: Mapping[str, str] = {}
    secrets: Mapping[str, Secret] = {}
    preset: Path | None = None
    stop_first: bool = False
    dry_run: bool = False


def set_settings(host: Host, folder: Path, wishes: SetWishes, reporter: Reporter) -> SetResult:
    """Writes settings into the server's own files, in one transaction that ``rhizon undo`` takes back. What a person
    sets in this way outlasts every update. Raises InputError (no such setting, a wrong value), :class:`StateError`."""
    home = host.home(folder).required()
    if not wishes.settings and not wishes.secrets and wishes.preset is None:
        names = command_line("rhizon", "settings", folder)
        raise InputError("usage", "there is nothing to set", hint=f"See the settings and their values: {names}")
    if wishes.dry_run:
        return _set(host, home, wishes)
    with exclusive(host, home, reporter):
        live = () if wishes.stop_first else _typed(host, home, wishes, reporter)
        if not live:
            require_stopped(host, home, reporter, stop_first=wishes.stop_first)
        done = msgspec.structs.replace(_set(host, home, wishes), live=live)
        if live:
            return done
        found = foresee_after(host, home, ("settings", "ports", "memory", "world"))
        return msgspec.structs.replace(done, findings=found)


def _typed(host: Host, home: InstanceFolder, wishes: SetWishes, reporter: Reporter) -> tuple[str, ...]:
    """Changes lists of names of a running server by its own commands, where nothing else is asked for and the game has
    them: what was typed. Raises :class:`StateError` where the server does not write it down."""
    mark = home.running()
    if mark is None or mark.is_bare or wishes.secrets or wishes.preset is not None:
        return ()
    instance = home.instance()
    game = host.game_of(instance, home.lock())
    lines: list[tuple[SettingDefinition, str, str, bool]] = []
    for key, value in wishes.settings.items():
        one, sign = game.settings.get(key[:-1]), key[-1:]
        if one is None or one.console is None or one.store is None or sign not in ("+", "-"):
            return ()
        command = one.console.add if sign == "+" else one.console.remove
        for name in one.names(one.checked(value)):
            lines.append((one, name, command.replace(NAME_WORD, name), sign == "+"))
    reporter.step("typing into the server's console")
    with console_of(home, mark) as client:
        for _, _, line, _ in lines:
            client.send(line)
    until = time.monotonic() + WRITE_SECONDS
    while not all((name in _list_of(home, one)) == there for one, name, _, there in lines):
        if time.monotonic() > until:
            raise StateError(
                "no-answer",
                f"the server did not write it down within {WRITE_SECONDS:.0f} s: {lines[0][2]}",
                hint=f"See what it says: {command_line('rhizon', 'log', home.folder)}",
            )
        time.sleep(0.05)
    reporter.done("changed by the running server itself")
    return tuple(line for _, _, line, _ in lines)


def _list_of(home: InstanceFolder, one: SettingDefinition) -> list[str]:
    assert one.store is not None
    there = in_file(one, DIALECTS[one.store.written], native_values(home, one.store))[0] or ""
    return one.names(there)


def _names_now(home: InstanceFolder, was: Instance, name: str, one: SettingDefinition) -> SettingValue:
    if one.store is None:
        return was.settings.get(name, one.default)
    return in_file(one, DIALECTS[one.store.written], native_values(home, one.store))[0] or ""


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
                f"{name} is not a list of names: nothing can be added to it or removed from it",
                hint=f"Set it: {name}={one.default}",
            )
        try:
            made[name] = more_or_fewer(one, made[name] if name in made else now(name, one), sign, value)
        except ValueError as wrong:
            raise InputError(
                "bad-setting", f"{name}: {wrong}", hint=f"Separate names with commas, as in {name}{sign}=Marit,Tove"
            ) from None
    return made


def _same_names(game: GameDefinition, name: str, before: str | int | bool, after: str | int | bool) -> bool:
    """Whether a list of names holds the same ones: their order does not matter."""
    one = game.settings[name]
    return one.type == "names" and set(one.names(before)) == set(one.names(after))


def _set(host: Host, home: InstanceFolder, wishes: SetWishes) -> SetResult:
    """Checks the settings, plans the edits, and carries them out unless it is a dry run."""
    settings, secrets, preset = wishes.settings, wishes.secrets, wishes.preset
    before = require_instance_state(host, home)
    was, game = before.instance, before.game
    if not was.first_start_done:
        raise StateError(
            "first-start-pending",
            "the first start is not done yet: the server has not written its own files",
            hint=f"Finish it: {command_line('rhizon', 'provision', was.source, home.folder)}",
        )
    shared, unknown = preset_settings(game, preset) if preset is not None else ({}, ())
    values: dict[str, str | int | bool] = {}

    def now(name: str, one: SettingDefinition) -> SettingValue:
        return values[name] if name in values else _names_now(home, was, name, one)

    for wanted, source in ((shared, preset.name if preset is not None else ""), (settings, "the command line")):
        values |= checked_settings(game, _whole_lists(game, wanted, now), source)
    check_secrets(game, secrets)
    instance = msgspec.structs.replace(
        was,
        settings={**was.settings, **values},
        chosen=tuple(sorted({*was.chosen, *values})),
        drawn=tuple(one for one in was.drawn if one not in values),
    )
    find_origin(home, game, before.lock, instance, None)  # a missing template is reported now
    after = before.with_instance(instance)
    plan, diffs = settings_change(host.store, before, after, {**values, **revealed(secrets)}, ports=False)
    names = ", ".join(sorted({*values, *secrets}))
    kept = None if wishes.dry_run else apply_change(host.store, before, after, plan, f"set {names}")
    return SetResult(
        folder=str(home.folder),
        name=was.name,
        planned=wishes.dry_run,
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

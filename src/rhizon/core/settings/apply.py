"""Settings and ports as edits of native files, and what is there in our words."""

from collections.abc import Iterable, Mapping

import msgspec

from rhizon.core.argument_keys import is_switch
from rhizon.core.errors import InputError
from rhizon.core.model.base import SettingValue
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.setting import NAME_WORD, SettingDefinition, SettingPlace, Stored
from rhizon.core.names import suggestions
from rhizon.core.secret import Secret
from rhizon.core.settings.dialects import Dialect, Scalar

__all__ = [
    "NativeEdits",
    "check_secrets",
    "checked_settings",
    "edits_for",
    "for_name",
    "format_value",
    "holds",
    "in_file",
    "in_place",
    "more_or_fewer",
    "name_in",
    "require_no_secrets",
]

# file -> (dialect, key -> value)
NativeEdits = dict[str, tuple[str, dict[str, Scalar]]]


def checked_settings(
    game: GameDefinition, wanted: Mapping[str, SettingValue], source: str
) -> dict[str, str | int | bool]:
    """Every setting as its own type. All that is wrong is raised at once (:class:`InputError`)."""
    checked: dict[str, str | int | bool] = {}
    wrong = []
    for name, value in wanted.items():
        definition = game.settings.get(name)
        if definition is None:
            guess = suggestions(name, game.settings, 1)
            known = f"did you mean {guess[0]!r}?" if guess else f"{game.title} has: {', '.join(game.settings)}"
            wrong.append(f"{name}: not a setting of {game.title}; {known}")
            continue
        if definition.secret and value:
            wrong.append(f"{name}: it is a secret; give it with --secret {name}, or its source in the list")
            continue
        try:
            checked[name] = definition.checked(value)
        except ValueError as why:
            wrong.append(f"{name}: {why}")
    if wrong:
        first = wrong[0] if len(wrong) == 1 else f"{len(wrong)} settings"
        raise InputError(
            "bad-setting",
            f"{source} has invalid settings: {first}",
            details=wrong if len(wrong) > 1 else (),
            hint=f"See them all with: rhizon game show {game.id}",
        )
    return checked


def require_no_secrets(game: GameDefinition, settings: Mapping[str, SettingValue], source: str) -> None:
    """:class:`InputError` where a list or pack gives the value of a secret setting, which would go into locks."""
    for name, value in settings.items():
        definition = game.settings.get(name)
        if definition is not None and definition.secret and value:
            raise InputError(
                "secret-in-list",
                f"{source} holds the value of {name}, which is a secret",
                hint=f'Say where it comes from instead: {name} = {{ file = "PATH" }}, {{ generate = true }} or '
                "{ ask = true }",
            )


def check_secrets(game: GameDefinition, secrets: Mapping[str, Secret]) -> None:
    """:class:`InputError` for a secret that the game does not have or that cannot be; its value is not shown."""
    known = [name for name, one in game.settings.items() if one.secret]
    for name, value in secrets.items():
        if name not in known:
            guess = suggestions(name, known, 1)
            raise InputError(
                "bad-setting",
                f"{name} is not a secret setting of {game.title}",
                hint=f"Did you mean {guess[0]}?" if guess else f"It has: {', '.join(known) or 'none'}",
            )
        try:
            game.settings[name].checked(value.reveal())
        except ValueError:  # its text may hold the value
            allowed = game.settings[name].allowed
            raise InputError(
                "bad-setting", f"{name}: the secret is not valid; allowed: {allowed}", hint="Give another secret."
            ) from None


def edits_for(
    game: GameDefinition,
    settings: Mapping[str, str | int | bool],
    ports: Mapping[str, int],
    extra_ports: Mapping[str, Iterable[Stored]],
) -> NativeEdits:
    """What must stand in which native file. Pure: no file is read."""
    edits: NativeEdits = {}

    def put(place: Stored, value: Scalar) -> None:
        edits.setdefault(place.file, (place.written, {}))[1][place.key] = value

    for name, definition in game.settings.items():  # in their order: the same settings give the same bytes
        place = definition.store
        if name not in settings or place is None:
            continue
        if definition.type != "names":
            for each in definition.places:
                put(each, definition.native(settings[name], each))
            continue
        edits.setdefault(place.file, (place.written, {}))
        for one in definition.names(settings[name]):
            put(for_name(place, one), definition.native(True, place))
    known = {port.role: port for port in game.ports}
    for role, number in ports.items():
        own = known.get(role)
        for stored, value in own.values(number) if own is not None else ():
            put(stored, value)
        for stored in extra_ports.get(role, ()) if own is None else ():
            put(stored, number)
    return edits


def for_name(place: Stored, name: str) -> Stored:
    """Where one of the names of a setting stands."""
    return msgspec.structs.replace(place, key=place.key.replace(NAME_WORD, name))


def name_in(place: Stored, key: str) -> str | None:
    """Which of the names of a setting a key of its file is for; None for another key."""
    head, _, tail = place.key.partition(NAME_WORD)
    if len(key) <= len(head) + len(tail) or not (key.startswith(head) and key.endswith(tail)):
        return None
    return key[len(head) : len(key) - len(tail)]


def in_file(definition: SettingDefinition, dialect: Dialect, values: Mapping[str, str]) -> tuple[Scalar | None, str]:
    """What a native file says of a setting in our words, and the keys that hold it; None where it says nothing."""
    place = definition.store
    if place is None:
        return None, ""
    return in_place(definition, place, dialect, values), place.key


def in_place(
    definition: SettingDefinition, place: SettingPlace, dialect: Dialect, values: Mapping[str, str]
) -> Scalar | None:
    """The same of one of its places."""
    if definition.type == "names":
        off = {dialect.spell(definition.native(False, place)), dialect.spell(False)}
        there = [name for key, value in values.items() if (name := name_in(place, key)) and value not in off]
        return ", ".join(there)
    if place.key in values:
        return _meant(definition, place, dialect, values[place.key])
    # an argument that is only there or not says no by its absence
    absent = place.dialect == "arguments" and definition.type == "flag" and is_switch(place.key)
    return False if absent else None


def holds(place: str, dialect: Dialect, values: Mapping[str, str], key: str, value: Scalar) -> bool:
    """Whether a native file in the dialect of that name (``place``) says what it should."""
    if place.partition("@")[0] == "arguments" and value is False and is_switch(key):
        return key not in values
    return values.get(key, "").strip() == dialect.spell(value).strip()


def format_value(value: str | int | bool) -> str:
    """A value as a person reads and types it."""
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)


def more_or_fewer(definition: SettingDefinition, now: SettingValue, sign: str, names: SettingValue) -> str:
    """The names of a setting with some more (``sign`` +) or fewer (-) than there are ``now``. ValueError for names that
    cannot be."""
    present, asked = definition.names(now), definition.names(names)
    left = [*present, *asked] if sign == "+" else [one for one in present if one not in asked]
    return str(definition.checked(left))


def _meant(definition: SettingDefinition, place: SettingPlace, dialect: Dialect, text: str) -> Scalar:
    """What a native value means; the text itself where it does not exist that the definition knows."""
    for ours, theirs in (place.words or definition.words).items():
        if dialect.spell(theirs).strip() == text.strip():
            return definition.checked(ours)
    if definition.type == "flag":
        spelled = {dialect.spell(True).lower(): True, dialect.spell(False).lower(): False}
        if text.strip().lower() in spelled:
            return spelled[text.strip().lower()]
    said = place.ours(text.strip()) if place.counts_otherwise else text
    try:
        return definition.checked(said)
    except ValueError:
        return text

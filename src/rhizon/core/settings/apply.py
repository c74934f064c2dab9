"""Settings, ports, operators and the licence's answer as edits of native files."""

from collections.abc import Iterable, Mapping

from rhizon.core.errors import InputError
from rhizon.core.model.game import GameDefinition, SettingDefinition, Stored
from rhizon.core.names import near
from rhizon.core.settings.dialects import Dialect, Scalar

__all__ = ["NativeEdits", "check_secrets", "checked_settings", "edit_lines", "edits_for", "from_native"]

# file -> (dialect, key -> value)
NativeEdits = dict[str, tuple[str, dict[str, Scalar]]]


def checked_settings(
    game: GameDefinition, wanted: Mapping[str, str | int | bool], source: str
) -> dict[str, str | int | bool]:
    """Every setting as its own type. All that is wrong is raised at once (:class:`InputError`)."""
    checked: dict[str, str | int | bool] = {}
    wrong = []
    for name, value in wanted.items():
        definition = game.settings.get(name)
        if definition is None:
            guess = near(name, game.settings, 1)
            known = f"did you mean {guess[0]!r}?" if guess else f"{game.title} has: {', '.join(game.settings)}"
            wrong.append(f"{name}: not a setting of {game.title}; {known}")
            continue
        if definition.secret and value:
            wrong.append(f"{name}: a secret does not belong in {source}; give it with --secret {name}=FILE")
            continue
        try:
            checked[name] = definition.checked(value)
        except ValueError as why:
            wrong.append(f"{name}: {why}")
    if wrong:
        first = wrong[0] if len(wrong) == 1 else f"{len(wrong)} settings"
        raise InputError(
            "bad-setting",
            f"{source} asks for settings that cannot be: {first}",
            details=wrong if len(wrong) > 1 else (),
            hint=f"See them all with: rhizon game show {game.id}",
        )
    return checked


def check_secrets(game: GameDefinition, secrets: Mapping[str, str]) -> None:
    """:class:`InputError` for a secret that the game does not have or that cannot be; its value is not told."""
    known = [name for name, one in game.settings.items() if one.secret]
    for name, value in secrets.items():
        if name not in known:
            guess = near(name, known, 1)
            raise InputError(
                "bad-setting",
                f"{name} is not a secret setting of {game.title}",
                hint=f"Did you mean {guess[0]}?" if guess else f"It has: {', '.join(known) or 'none'}",
            )
        try:
            game.settings[name].checked(value)
        except ValueError as wrong:
            raise InputError("bad-setting", f"{name}: {wrong}", hint="Mend the file that holds it.") from None


def edits_for(
    game: GameDefinition,
    settings: Mapping[str, str | int | bool],
    ports: Mapping[str, int],
    extra_ports: Mapping[str, Iterable[Stored]],
) -> NativeEdits:
    """What must stand in which native file. Pure: no file is read."""
    edits: NativeEdits = {}

    def put(place: Stored, value: Scalar) -> None:
        edits.setdefault(place.file, (place.dialect, {}))[1][place.key] = value

    for name, definition in game.settings.items():  # in their order: the same settings give the same bytes
        if name in settings:
            put(definition.store, definition.native(settings[name]))
    places: dict[str, Iterable[Stored]] = {port.role: port.store for port in game.ports}
    places.update(extra_ports)
    for role, number in ports.items():
        for place in places.get(role, ()):
            put(place, number)
    return edits


def from_native(definition: SettingDefinition, dialect: Dialect, text: str) -> Scalar:
    """What a native value means in our words; the text itself where it is none that the definition knows."""
    for ours, theirs in definition.words.items():
        if theirs == text.strip():
            return definition.checked(ours)
    if definition.type == "flag":
        spelt = {dialect.spell(True).lower(): True, dialect.spell(False).lower(): False}
        if text.strip().lower() in spelt:
            return spelt[text.strip().lower()]
    try:
        return definition.checked(text)
    except ValueError:
        return text


def edit_lines(data: bytes, names: Iterable[str]) -> bytes:
    """A file of one name a line, with ``names`` added where they are missing; the rest keeps its bytes."""
    present = {line.strip() for line in data.decode("utf-8", "surrogateescape").splitlines()}
    missing = [name for name in names if name not in present]
    if not missing:
        return data
    head = data if not data or data.endswith(b"\n") else data + b"\n"
    return head + "".join(f"{name}\n" for name in missing).encode("utf-8", "surrogateescape")

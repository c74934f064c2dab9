"""Rules on the server's own settings files, as they are now, whoever wrote them."""

import difflib
from collections.abc import Iterator

from rhizon.core.allocate.port_roles import port_places
from rhizon.core.check.finding import error, warning
from rhizon.core.check.observation import NativeFile, Observation
from rhizon.core.finding import Finding
from rhizon.core.model.setting import SettingDefinition
from rhizon.core.settings.apply import format_value, holds, in_file, in_place
from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.words import command_line

__all__ = [
    "encodings",
    "licence_answer",
    "places_agree",
    "repeated_keys",
    "settings_now",
    "unknown_keys",
    "unreadable",
    "values",
    "writable",
]

_MARK_BREAKS = ("ini", "semicolon")  # readers of these know no byte order mark
_TWICE_BREAKS = ("ini", "semicolon")  # and refuse a key that is there twice
_NEARLY = 0.8  # how alike a key and the one that is missing are, from 0 to 1


def unreadable(seen: Observation) -> Iterator[Finding]:
    """Files that are missing or cannot be parsed."""
    for one in seen.native:
        if not one.exists:
            if seen.instance.first_start_done:
                again = f"It is written again, but for secrets, by: {command_line('rhizon', 'update', seen.folder)}"
                yield error("settings-file-missing", one.path, "missing", again)
        elif one.broken:
            yield error("native-file-broken", one.path, one.broken, "Correct that line by hand.")


def encodings(seen: Observation) -> Iterator[Finding]:
    """Files in another encoding than servers read."""
    remedy = "Save it as UTF-8 without a byte order mark."
    for one in seen.native:
        if "@" in one.dialect:
            continue  # the definition says which encoding it has
        if one.encoding == "UTF-16":
            yield error("settings-encoding", one.path, "it is saved as UTF-16: the server finds no key in it", remedy)
        elif one.encoding == "not UTF-8":
            what = "it is not UTF-8: the server refuses it, or shows wrong letters"
            yield error("settings-encoding", one.path, what, remedy)
        elif one.encoding != "UTF-8" and one.dialect in _MARK_BREAKS:
            what = "it begins with a byte order mark: the server does not find its first section"
            yield error("settings-encoding", one.path, what, remedy)
        elif one.encoding != "UTF-8" and one.dialect != "xml":  # where a mark is allowed (XML 1.0, 4.3.3)
            what = "it begins with a byte order mark: the server may not find its first key"
            yield warning("settings-encoding", one.path, what, remedy)


def repeated_keys(seen: Observation) -> Iterator[Finding]:
    """Keys that are there twice: a server goes by one of them, a person reads the other; strict readers refuse both."""
    for one in seen.native:
        for key, lines in one.repeated.items():
            where = f", in lines {' and '.join(map(str, lines[:3]))}{' …' if len(lines) > 3 else ''}" if lines else ""
            what = f"{key} is there {'twice' if len(lines) < 3 else f'{len(lines)} times'}{where}"
            if one.dialect in _TWICE_BREAKS:
                yield error("setting-repeated", one.path, what, "Remove one: the server may refuse the file.")
            else:
                yield warning("setting-repeated", one.path, what, "Remove one.")


def writable(seen: Observation) -> Iterator[Finding]:
    """Files that the server, or the next change, cannot write."""
    for one in seen.native:
        if one.foreign:
            what = f"it belongs to {one.foreign}, and the folder does not"
            yield warning("settings-owner", one.path, what, "Give it to the owner of the folder: chown")
        elif one.exists and not one.writable:
            what = "it is read-only: neither the server nor rhizon can change it"
            yield warning("settings-read-only", one.path, what, f"If that was not meant: chmod u+w {one.path}")


def values(seen: Observation) -> Iterator[Finding]:
    """Values that are not of the type, in the range or among the choices of their setting."""
    for name, definition in seen.game.settings.items():
        file = _file_of(seen, definition)
        if file is None or definition.store is None or definition.secret or definition.type == "names":
            continue
        if definition.store.key not in file.values:
            continue
        value, key = in_file(definition, DIALECTS[definition.store.written], file.values)
        try:
            definition.checked(value)
        except ValueError as wrong:
            better = seen.instance.settings.get(name, definition.default)
            change = f"{name}={format_value(better)}"
            yield error(
                "setting-refused",
                f"{file.path}: {key}",
                f"{name}: {wrong}",
                f"Set it to what it was: {command_line('rhizon', 'set', seen.folder, change)}",
            )


def _file_of(seen: Observation, definition: SettingDefinition) -> NativeFile | None:
    file = seen.file(definition.store.file) if definition.store is not None else None
    return file if file is not None and file.exists and not file.broken else None


def unknown_keys(seen: Observation) -> Iterator[Finding]:
    """Keys that no setting has, with nearly the name of one that is missing: a slip of the pen."""
    known: dict[str, set[str]] = {}
    for definition in seen.game.settings.values():
        if definition.store is not None and definition.type != "names":
            known.setdefault(definition.store.file, set()).add(definition.store.key)
    for port in port_places(seen.game, seen.lock).values():
        for place in port.store:
            known.setdefault(place.file, set()).add(place.key)
    for file in seen.native:
        keys = known.get(file.path, set())
        missing = {key for key in keys if key not in file.values}
        for key in file.values.keys() - keys:
            near = difflib.get_close_matches(key, missing, 1, _NEARLY)
            if near:
                what = f"{key} is no setting of {seen.game.title}, and {near[0]} is missing"
                yield warning("setting-unknown", file.path, what, f"Did you mean {near[0]}?")


def places_agree(seen: Observation) -> Iterator[Finding]:
    """A setting that several places hold, which do not say the same: nobody knows which one counts."""
    for name, definition in seen.game.settings.items():
        said: dict[str, str] = {}
        for place in definition.places if definition.also and name not in seen.instance.settings else ():
            file = seen.file(place.file)
            if file is None or file.broken or place.key not in file.values:
                continue
            value = in_place(definition, place, DIALECTS[place.written], file.values)
            said[f"{place.file}: {place.key}"] = format_value(value) if value is not None else ""
        if len(set(said.values())) > 1:
            told = {where: "(secret)" if definition.secret else value for where, value in said.items()}
            shown = "; ".join(f"{where} is {value}" for where, value in told.items())
            remedy = f"Set it, and all places say so: {command_line('rhizon', 'set', seen.folder, f'{name}=VALUE')}"
            yield warning("setting-places-differ", name, shown, remedy)


def licence_answer(seen: Observation) -> Iterator[Finding]:
    """An answer to the licence that was accepted and is now another in the file."""
    licence = seen.game.licence
    if licence is None or seen.instance.licence is None:
        return
    file = seen.file(licence.answer.file)
    if file is not None and file.exists and not file.broken:
        place = licence.answer
        answer = file.values.get(place.key, "").strip()
        if not holds(place.written, DIALECTS[place.written], file.values, place.key, licence.accepted):
            what = f"the licence was accepted, but {licence.answer.key} is {answer or '(missing)'!r} now"
            again = command_line("rhizon", "update", seen.folder)
            yield error("licence-reset", file.path, what, f"It is answered again by: {again}")


def settings_now(seen: Observation) -> dict[str, str | int | bool]:
    """The settings as the files say them, where they say something that can be."""
    found = dict(seen.instance.settings)
    for name, definition in seen.game.settings.items():
        file = seen.file(definition.store.file) if definition.store is not None else None
        if file is None or definition.store is None or definition.secret or definition.store.key not in file.values:
            continue
        value, _ = in_file(definition, DIALECTS[definition.store.written], file.values)
        try:
            found[name] = definition.checked(value)
        except ValueError:
            continue
    return found

"""The files that both Rhizon and people write: the server's own settings, and what a pack lays over.

Each is merged three ways: what was shipped last time, what is there, what is shipped now.
"""

import contextlib
import difflib
import shlex
import stat
from collections.abc import Callable, Collection, Iterator, Mapping
from functools import partial
from pathlib import Path
from typing import NamedTuple

import msgspec

from rhizon.adapters.inside import Inside
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.store import Store
from rhizon.adapters.transact import RHIZON
from rhizon.app.instance.native_files import native_values, understood
from rhizon.app.instance.state import InstanceState
from rhizon.core.allocate.port_roles import port_places
from rhizon.core.content_paths import leaves_of
from rhizon.core.errors import RhizonError, StateError
from rhizon.core.finding import Finding
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Inventory
from rhizon.core.model.setting import SettingDefinition
from rhizon.core.names import RelPath, UnsafeNameError, printable, safe_path
from rhizon.core.plan import Settled, WantedFile, Written
from rhizon.core.secret import HIDDEN
from rhizon.core.settings.apply import NativeEdits, edits_for, in_file
from rhizon.core.settings.content import put_enabled, with_content
from rhizon.core.settings.derived import put_derived
from rhizon.core.settings.dialects import DIALECTS, Dialect, Scalar, dialect_of
from rhizon.core.settings.load_order import put_in_load_order
from rhizon.core.settings.merge import MergeConflict, Merged, merge_keys, merge_lines

__all__ = ["FileDiff", "Insisted", "files_below", "merge_edited", "native_edits", "settings_paths", "shown_diff"]

LARGEST_SETTINGS_FILE = 4 << 20
UNTOUCHED = "new version, since it was not edited"
_UNKNOWN = "\0"  # no setting has this value: whatever is in its place was changed


class Insisted(NamedTuple):
    """What is written whatever is in a file: ``settings``, and the ports where ``ports`` says so; with ``only``
    nothing else is."""

    settings: Mapping[str, str | int | bool] = {}
    only: bool = False
    ports: bool = True


class FileDiff(msgspec.Struct, frozen=True, kw_only=True):
    """What a change does to one file, as lines of a unified diff; secrets are hidden."""

    path: RelPath
    lines: tuple[str, ...]


def native_edits(
    state: InstanceState,
    settings: Mapping[str, str | int | bool] | None = None,
    *,
    enabled: bool = True,
    ports: bool = True,
) -> NativeEdits:
    """What is, or will be, in the server's own files: settings (all of the instance's, or those given),
    ``ports``, what is ``enabled`` of the content, and the licence's answer where it was given."""
    game, lock, instance = state.game, state.lock, state.instance
    extra = {role: port.store for role, port in port_places(game, lock).items()}
    chosen = instance.settings if settings is None else settings
    edits = edits_for(with_content(game, lock), chosen, instance.ports if ports else {}, extra)
    if ports or settings is None:
        put_derived(edits, game, lock, instance.name, instance.ports, {**instance.settings, **chosen})
    if enabled:
        put_enabled(edits, game, lock)
    if game.licence is not None and instance.licence is not None:
        place = game.licence.answer
        edits.setdefault(place.file, (place.written, {}))[1][place.key] = game.licence.accepted
    return edits


def settings_paths(state: InstanceState) -> list[RelPath]:
    """Every file there that the server or people write, worlds and logs left out."""
    home, game, inventory = state.home, state.game, state.inventory
    named = {RelPath(path) for path, owned in inventory.files.items() if owned.edited}
    named |= {RelPath(path) for path in native_edits(state)}
    ours = {path for path, owned in inventory.files.items() if not owned.edited}
    with home.inside() as inside:
        left = (path for release in state.lock.on_server() for path in leaves_of(game, release))
        for path in (*game.first_start.creates, *left):
            named |= set(files_below(inside, path))
        return sorted(
            path for path in named if path not in ours and not game.world.covers(path) and _ordinary(inside, path)
        )


def files_below(inside: Inside, path: str) -> Iterator[RelPath]:
    """Every file at or below a path, links and Rhizon's own left out."""
    if path == RHIZON:
        return
    if inside.is_folder(path):
        for name in inside.names(path):
            yield from files_below(inside, f"{path}/{name}")
        return
    with contextlib.suppress(UnsafeNameError):  # nothing of ours; it stays where it is
        yield safe_path(path)


def _ordinary(inside: Inside, path: str) -> bool:
    """Whether it is a file that is not too large for settings, reached without a link."""
    try:
        facts = inside.lstat(path)
    except StateError:
        return False
    return facts is not None and stat.S_ISREG(facts.st_mode) and facts.st_size <= LARGEST_SETTINGS_FILE


def merge_edited(
    store: Store,
    before: InstanceState | None,
    after: InstanceState,
    wanted: Mapping[RelPath, WantedFile],
    insisted: Insisted,
) -> dict[RelPath, Settled]:
    """What becomes of each of them. Before the first start there is only what a pack lays over. Raises
    :class:`StateError` for a file that cannot be understood."""
    home, game = after.home, after.game
    inventory = before.inventory if before is not None else None
    settings, only_typed = insisted.settings, insisted.only
    started = before is not None and before.instance.first_start_done
    old = native_edits(before) if before is not None and started else {}
    new = native_edits(after) if started else {}
    typed = native_edits(after, settings, enabled=False, ports=insisted.ports) if started else {}
    if only_typed:  # of lists of names also those that were taken out
        lists = {name for name in settings if name in game.settings and game.settings[name].type == "names"}
        listed = {name: _names_there(home, game.settings[name]) for name in lists}
        new = native_edits(after, settings, enabled=False)
        old = _joined(new, native_edits(before, listed, enabled=False)) if before is not None else new
    laid = {path: file for path, file in wanted.items() if file.edited}
    made = {}
    for path in sorted({*laid, *map(RelPath, new)}):
        mine = home.read(path) if _exists(home, path) else None
        if mine is None and path not in new:
            continue  # placed like any other
        was = None if only_typed else _was_shipped(store, inventory, path)  # what is not typed is not touched
        one = _File(home.folder / path, path, mine, was, _shipped(store, laid, path), _secrets(game, path).keys())
        one.put_in_order = partial(put_in_load_order, game, after.lock, path)
        if path in new:
            made[path] = one.by_setting(
                DIALECTS[new[path][0]],
                old[path][1] if path in old else {},
                new[path][1],
                typed[path][1] if path in typed else {},
            )
        else:
            dialect = dialect_of(path)
            made[path] = one.by_setting(dialect, {}, {}, {}) if dialect is not None else one.by_line()
    return made


def _names_there(home: InstanceFolder, one: SettingDefinition) -> str | int | bool:
    if one.store is None:
        return ""
    return in_file(one, DIALECTS[one.store.written], native_values(home, one.store))[0] or ""


def _joined(one: NativeEdits, other: NativeEdits) -> NativeEdits:
    """Both, file by file, as far as the first has the file."""
    return {path: (dialect, {**other.get(path, (dialect, {}))[1], **values}) for path, (dialect, values) in one.items()}


def _exists(home: InstanceFolder, path: RelPath) -> bool:
    """Raises :class:`StateError` for what is there and is not an ordinary file, or is reached over a link."""
    return bool(home.hashes([path]))


def _was_shipped(store: Store, inventory: Inventory | None, path: RelPath) -> bytes | None:
    """What was laid over last time; None when nothing was, or when the store has lost it."""
    owned = inventory.files.get(path) if inventory is not None else None
    if owned is None or not store.has(owned.sha256, owned.size):
        return None
    try:
        return store.read(owned.sha256, path)
    except RhizonError:
        return None


def _shipped(store: Store, laid: Mapping[RelPath, WantedFile], path: RelPath) -> bytes | None:
    return store.read(laid[path].sha256, path) if path in laid else None


class _File:
    """One file: what is there, what was laid over last time and now (None where nothing is)."""

    def __init__(
        self,
        real: Path,
        path: RelPath,
        mine: bytes | None,
        was: bytes | None,
        now: bytes | None,
        secrets: Collection[str],
    ) -> None:
        self._path = path
        self._secrets = secrets
        present = real.stat().st_mode & 0o777 if mine is not None else 0o644
        self._read_only = not present & 0o200
        self._real = real
        self._mode = 0o600 if secrets else present
        self._mine = mine
        self._was = was
        self._now = now
        self.put_in_order: Callable[[Dialect, bytes], bytes] = lambda _dialect, data: data

    def by_setting(
        self,
        dialect: Dialect,
        old: Mapping[str, Scalar],
        new: Mapping[str, Scalar],
        typed: Mapping[str, Scalar],
    ) -> Settled:
        """The merge of a file whose dialect is known, key by key; comments and order stay. Raises StateError for one
        that cannot be parsed or is read-only."""
        with understood(self._path):
            shipped = (dialect.read(self._now) if self._now is not None else {}) | dict(new)
            if self._was is not None:
                was = dialect.read(self._was)
            else:  # where something is laid over for the first time, no one knows who wrote what is there
                was = dict.fromkeys(shipped.keys() - new.keys(), _UNKNOWN)
            if self._mine is None:
                whole = self.put_in_order(dialect, dialect.edit(self._now or b"", dict(new)))
                return Settled(there=False, after=Written(whole, self._mode), reason="settings")
            self._may_change(self._mine, dialect.edit(self._mine, dict(typed)))
            if self._now is not None and self._was is not None and self._mine == dialect.edit(self._was, dict(old)):
                fresh = self.put_in_order(dialect, dialect.edit(self._now, {**new, **typed}))  # with its comments
                return self._settled(Merged(data=fresh, taken=(UNTOUCHED,)), None)
            merged = merge_keys(dialect, self._mine, was | dict(old), shipped, typed)
            in_order = self.put_in_order(dialect, merged.data)
            if in_order != merged.data:
                merged = msgspec.structs.replace(merged, data=in_order, taken=(*merged.taken, "the order of loading"))
            beside = self._beside(dialect, merged, shipped)
        return self._settled(merged, beside)

    def _may_change(self, mine: bytes, made: bytes) -> None:
        if self._read_only and made != mine:
            raise StateError(
                "file-read-only",
                f"{self._real} is read-only, and this command would change it",
                hint=f"Allow it with: chmod u+w {shlex.quote(str(self._real))}; then run the same command again.",
            )

    def _beside(self, dialect: Dialect, merged: Merged, shipped: Mapping[str, Scalar]) -> bytes | None:
        clashing = {one.key: shipped[one.key] for one in merged.real_clashes}
        if not clashing:
            return None
        return self._now if self._now is not None else dialect.edit(b"", clashing)

    def by_line(self) -> Settled:
        """The merge of a file of unknown form, line by line."""
        assert self._mine is not None and self._now is not None
        if self._mine == self._now or self._now == self._was:
            return Settled(there=True, after=None, reason="may change in use")
        if self._mine == self._was:
            return self._settled(Merged(data=self._now, taken=(UNTOUCHED,)), None)
        merged = merge_lines(self._was, self._mine, self._now) if self._was is not None else None
        if merged is None:
            clash = MergeConflict(key="the whole file", mine="yours", shipped="another")
            return self._settled(Merged(data=self._mine, clashes=(clash,)), self._now)
        return self._settled(merged, self._now if merged.clashes else None)

    def _settled(self, merged: Merged, beside: bytes | None) -> Settled:
        """What becomes of the file after a merge: written, left since it is read-only, or unchanged."""
        findings = tuple(_clash(self._path, one, secret=one.key in self._secrets) for one in merged.clashes)
        if merged.data == self._mine:
            return Settled(there=True, after=None, reason="unchanged", beside=beside, findings=findings)
        count = len(merged.taken)
        reason = f"{', '.join(merged.taken[:4])}{f' and {count - 4} more' if count > 4 else ''}"
        if self._read_only:  # the one who marked it so wants it to stay
            return Settled(
                there=True, after=None, reason="marked read-only", beside=beside,
                findings=(*findings, _left(self._path, reason)),
            )  # fmt: skip
        written = Written(merged.data, self._mode)
        return Settled(there=True, after=written, reason=reason, beside=beside, findings=findings)


def _left(path: RelPath, reason: str) -> Finding:
    return Finding(
        code="settings-read-only",
        severity="warning",
        subject=path,
        what=f"read-only, left unchanged; this would have changed: {reason}",
        remedy="To allow it, make it writable (chmod u+w) and run the same command again.",
    )


def _secrets(game: GameDefinition, path: RelPath) -> dict[str, Dialect]:
    """The keys of a file whose values no one is shown, each with the dialect that its definition names."""
    places = (place for one in game.settings.values() if one.secret for place in one.places)
    return {one.key: DIALECTS[one.written] for one in places if one.file == path}


def _clash(path: str, one: MergeConflict, *, secret: bool) -> Finding:
    """The finding for a key that a person and the shipped file have changed."""
    mine, shipped = (HIDDEN, HIDDEN) if secret else (one.mine[:80], one.shipped[:80])
    if one.shipped_before:
        return Finding(
            code="setting-edited",
            severity="note",
            subject=path,
            what=f"{one.key} is {mine!r} by your edit and stays so; {shipped!r} was set",
            remedy="",
        )
    return Finding(
        code="setting-clash",
        severity="warning",
        subject=path,
        what=f"{one.key} is {mine!r} by your edit; the new value {shipped!r} was not applied",
        remedy=f"The new version is beside it in {path}.shipped; copy what you want.",
    )


def shown_diff(path: RelPath, before: bytes, after: bytes, game: GameDefinition) -> FileDiff:
    """How a file changes, for a person to read; values of secret settings are hidden."""
    secrets = _secrets(game, path)
    old, new = (_hidden(data, secrets).splitlines() for data in (before, after))
    lines = list(difflib.unified_diff(old, new, "before", "after", lineterm="", n=1))[2:]
    return FileDiff(path=path, lines=tuple(printable(line, 200) for line in lines))


def _hidden(data: bytes, secrets: Mapping[str, Dialect]) -> str:
    for key, dialect in secrets.items():
        try:
            if dialect.read(data).get(key):
                data = dialect.edit(data, {key: HIDDEN})
        except ValueError:  # the place of the secret in it is unknown
            return f"{HIDDEN} (cannot be parsed; may contain a secret)"
    return data.decode("utf-8", "replace")

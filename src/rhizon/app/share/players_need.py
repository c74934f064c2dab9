"""What a server's players need, with all of its bytes in the store: the manifest of a kit."""

from collections.abc import Collection
from importlib import resources
from pathlib import Path

import msgspec

from rhizon.adapters.catalogs import Catalogs
from rhizon.adapters.fetching import fetch_all, missing_from
from rhizon.adapters.host import every_address
from rhizon.app.choose.resolve import catalogs_for
from rhizon.app.choose.sources import read_any
from rhizon.app.host import Host
from rhizon.app.instance.state import InstanceState
from rhizon.app.reporter import Reporter
from rhizon.core.archives.entries import Archive
from rhizon.core.content_paths import unpacked
from rhizon.core.errors import InputError, RhizonError, StateError
from rhizon.core.kit.manifest import KitFacts, make_manifest, players_view
from rhizon.core.kit.readme import Texts
from rhizon.core.model.catalog import Item
from rhizon.core.model.kit import KitFile, KitManifest
from rhizon.core.model.lock import Lock, LockedFile
from rhizon.core.names import printable
from rhizon.core.units import counted

__all__ = ["address_of", "page_texts", "players_need"]

ALL_ITEMS = 300  # a catalog of so many is read whole


def page_texts() -> Texts:
    """All sentences that players read, by their names."""
    data = resources.files("rhizon.page").joinpath("en.json").read_bytes()
    return msgspec.json.decode(data, type=dict[str, str])


def address_of(host: Host, state: InstanceState) -> str:
    """What players use to reach the server: as the person said, as ``host.toml`` says, else an address of this machine
    in its network; "" where there is none."""
    said = state.instance.players.address or host.limits.address
    if said:
        return said
    bound = str(state.instance.settings.get("address", "")).strip()
    found = every_address() if bound in ("", "0.0.0.0", "::") else [bound]
    ours = [one for one in found if not one.startswith(("127.", "fe80")) and one != "::1"]
    return (ours or found or [""])[0]


def players_need(
    host: Host, state: InstanceState, reporter: Reporter, optional: Collection[str] | None = None
) -> KitManifest:
    """The manifest; what it names is in the store then. Of optional content only ``optional`` (None: all of it).
    Raises InputError (no such optional content), :class:`StateError` where something is not available: rather no kit
    than one that lacks something."""
    lock = _with_optional(state.lock, optional)
    reporter.step("gathering what players need")
    catalogs = _catalogs(host, state, reporter)
    try:
        fetch_all(
            catalogs,
            missing_from(host.store, [one.file for one in lock.for_players()]),
            host.store,
            lambda got: reporter.progress(got.text, got.part),
        )
        inner = {
            one.id: _inside(host, one.file, one.id)
            for one in lock.for_players()
            if unpacked(players_view(state.game), one)
        }
        loader = _loader(host, catalogs, lock)
    except RhizonError as wrong:
        raise StateError(
            "kit-incomplete",
            f"not everything that players need is available: {wrong.message}",
            details=wrong.details,
            hint=wrong.hint,
        ) from None
    _require_overlay(host, lock)
    name = address_of(host, state)
    instance = state.instance
    manifest = make_manifest(
        state.game,
        lock,
        KitFacts(
            server=instance.name,
            description=instance.players.description,
            contact=instance.players.contact,
            host=f"[{name}]" if ":" in name else name,
            port=next(iter(instance.ports.values()), None),
            inner=inner,
            loader=loader,
            items=_items(catalogs, lock),
            settings=instance.settings,
        ),
    )
    reporter.done(f"{counted(len(manifest.pieces), 'piece')} of content for players")
    return manifest


def _with_optional(lock: Lock, optional: Collection[str] | None) -> Lock:
    """The lock with only these of the releases that players may leave out. Raises InputError."""
    if optional is None:
        return lock
    can = {one.id for one in lock.for_players() if one.placement in ("player", "any")}
    wrong = sorted(set(optional) - can)
    if wrong:
        raise InputError(
            "not-optional",
            f"{', '.join(wrong)} is not optional content for players",
            hint=f"Optional: {', '.join(sorted(can)) or 'nothing'}",
        )
    return msgspec.structs.replace(
        lock, releases=tuple(one for one in lock.releases if one.id not in can or one.id in optional)
    )


def _catalogs(host: Host, state: InstanceState, reporter: Reporter) -> Catalogs:
    """Those of the last provision, and archives that its list names. Raises InputError, RemoteError."""
    source = Path(state.instance.source)
    if source.exists() and any(one.file.catalog == "local-archives" for one in state.lock.releases):
        read = read_any(host, source, state.game.id, reporter)
        return catalogs_for(host, read, state.game, (), reporter, state.instance.catalogs)
    return host.open_catalogs(state.instance.catalogs, Path.cwd())


def _inside(host: Host, file: LockedFile, name: str) -> tuple[KitFile, ...]:
    """The files of an archive, each in the store."""
    archive = Archive(host.store.read(file.sha256, file.path), name)
    found = [KitFile(path=path, sha256=host.store.add(data), size=len(data)) for path, data in archive.files()]
    return tuple(sorted(found, key=lambda one: one.path))


def _loader(host: Host, catalogs: Catalogs, lock: Lock) -> tuple[KitFile, ...]:
    """The loader build as players install it, where a catalog has it. Raises RemoteError, TrustError."""
    target = lock.target
    if lock.loader is None:
        return ()
    name, files = catalogs.host(target.game)
    for build in files.player_loaders:
        if (build.loader, build.build) == (target.loader, target.loader_build):
            artefact = build.artefact
            file = LockedFile(catalog=name, path=artefact.path, sha256=artefact.sha256, size=artefact.size)
            fetch_all(catalogs, missing_from(host.store, [file]), host.store, lambda _got: None)
            return _inside(host, file, printable(f"{build.loader} {build.build}"))
    return ()


def _items(catalogs: Catalogs, lock: Lock) -> dict[str, Item]:
    """What the catalogs say of the content and of what it says that it cannot be beside; of a small catalog all, since
    the other side may say so, too."""
    game, index = lock.target.game, catalogs.index(lock.target.game)
    names = {one.id for one in lock.for_players()} & index.items.keys()
    if len(index.items) <= ALL_ITEMS:
        names |= index.items.keys()
    found: dict[str, Item] = {}
    versions = {one.id: one.version for one in lock.for_players()}
    catalogs.prefetch(game, sorted(names))
    for name in sorted(names):
        one = catalogs.item(game, name)
        if one is not None:
            found[name] = one[1]
    for name, version in versions.items():
        mine = next((one for one in found[name].releases if one.version == version), None) if name in found else None
        for clash in mine.conflicts if mine is not None else ():
            other = catalogs.item(game, clash.id)
            if other is not None:
                found[clash.id] = other[1]
    return found


def _require_overlay(host: Host, lock: Lock) -> None:
    missing = [one.path for one in lock.player_overlay if not host.store.has(one.sha256, one.size)]
    if missing:
        raise StateError(
            "kit-incomplete",
            f"files of the pack {lock.name} for players are not in this machine's store: {', '.join(missing[:4])}",
            hint="Update the server from the pack itself; then make the kit.",
        )

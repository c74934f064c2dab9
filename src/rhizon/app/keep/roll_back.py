"""Back to what an instance was: a kept state (undo) or a backup (restore), as a plan that is then carried out."""

from collections.abc import Callable, Mapping, Sequence
from typing import Literal, NamedTuple

import msgspec

from rhizon.adapters.backups import Repository
from rhizon.adapters.inside import Inside
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.ledger import Entry
from rhizon.adapters.transact import MakeTree
from rhizon.app.host import Host
from rhizon.app.instance.change import apply_change
from rhizon.app.instance.edited_files import FileDiff, settings_paths, shown_diff
from rhizon.app.instance.refetch import refetch
from rhizon.app.instance.reservations import entry_of, others_than, reserved
from rhizon.app.instance.state import InstanceState, compare_states
from rhizon.app.keep.backup import back_up_before
from rhizon.app.reporter import Reporter
from rhizon.core.changes import Changes
from rhizon.core.errors import StateError
from rhizon.core.finding import Finding
from rhizon.core.model.backup import Backup, SavedFile
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Inventory
from rhizon.core.model.kept import KeptFile, KeptState
from rhizon.core.model.lock import Lock
from rhizon.core.names import RelPath
from rhizon.core.plan import Action, Plan, Step, WantedFile, Written
from rhizon.core.words import command_line

__all__ = [
    "BytesOf",
    "Part",
    "RollBackResult",
    "RollBackTarget",
    "WorldCopy",
    "plan_new_instance",
    "roll_back",
    "world_meets",
    "world_trees",
]

# The bytes of a file of the state where the folder or the backup still has them.
BytesOf = Callable[[str, KeptFile], bytes | None]
Part = Literal["all", "world", "settings"]


class WorldCopy(NamedTuple):
    """Worlds as a backup has them."""

    repository: Repository
    backup: Backup


class RollBackResult(msgspec.Struct, frozen=True, kw_only=True):
    """What going back did, or would do (``planned``). ``to`` is the number of a kept state or the time of a backup,
    ``kept`` the number under which what was there is kept, ``backup`` the time of the backup of the world that was
    there, ``world`` what became of it."""

    folder: str
    name: str
    to: str
    planned: bool
    steps: tuple[Step, ...]
    diffs: tuple[FileDiff, ...]
    changes: Changes
    kept: int | None
    backup: str | None
    world: str
    findings: tuple[Finding, ...] = ()


class _Return(NamedTuple):
    """What going back does and what the instance then is."""

    plan: Plan
    after: InstanceState
    diffs: tuple[FileDiff, ...]


class RollBackTarget(msgspec.Struct, frozen=True, kw_only=True):
    """Where to go back: to ``state`` or a ``part`` of it, with its ``world`` where one is given. ``to`` names it for a
    person, ``why`` is what the kept state says of the change."""

    state: KeptState
    to: str
    why: str
    bytes_of: BytesOf
    world: WorldCopy | None = None
    part: Part = "all"


def roll_back(
    host: Host, before: InstanceState, target: RollBackTarget, reporter: Reporter, *, dry_run: bool
) -> RollBackResult:
    """Makes the server what it was. What is there now is kept, and its world backed up before another takes its place;
    the caller holds the instance.

    Raises :class:`StateError`: bytes of the state are gone, another instance has its port, the world is a link.
    """
    home, game, world, why = before.home, before.game, target.world, target.why
    planned = _plan(host, before, target, reporter)
    after = planned.after
    trees = world_trees(home, game, world) if world is not None else {}
    steps = planned.plan.steps
    if trees:
        steps = (
            Step(action="back up", path=RelPath(game.world.title), reason="it will be replaced", wanted=None),
            *(Step(action="replace", path=path, reason="the world as it was", wanted=None) for path in trees),
            *steps,
        )
    findings = world_meets(world.backup.state.lock, after.lock, game) if world is not None else []
    number = backup = None
    if dry_run:
        _free_entry(home, game, after, others_than(host, home))
    else:
        if trees:
            backup = back_up_before(host, before, reporter, f"before: {why}").when

        def decide(others: Sequence[Entry]) -> tuple[None, Entry]:
            return None, _free_entry(home, game, after, others)

        with reserved(host, home, decide):
            reporter.step(why)
            number = apply_change(host.store, before, after, planned.plan, why, backup=backup, trees=trees)
        reporter.done(f"files: {sum(1 for _ in planned.plan.changes)} changed")
    return RollBackResult(
        folder=str(home.folder),
        name=after.instance.name,
        to=target.to,
        planned=dry_run,
        steps=steps,
        diffs=planned.diffs,
        changes=compare_states(before, after),
        kept=number,
        backup=backup,
        world=f"as it was on {world.backup.when}" if world is not None else "unchanged",
        findings=tuple(findings),
    )


def world_trees(home: InstanceFolder, game: GameDefinition, world: WorldCopy) -> dict[RelPath, MakeTree]:
    """Each world of a backup, to be laid out in place of the one of that name; others stay. Raises StateError for a
    world that is a link."""
    repository, backup = world
    units = {game.world.unit(path) or path for path in (*backup.world, *backup.empty)}
    trees: dict[RelPath, MakeTree] = {}
    for path in map(RelPath, sorted(units)):
        if (home.folder / path).is_symlink():
            raise StateError(
                "world-is-a-link",
                f"{home.folder / path} is a link that a restored world would replace",
                hint="Restore into a new folder, then move the world to where the link points.",
            )
        files = {one: file for one, file in backup.world.items() if one == path or one.startswith(f"{path}/")}
        empty = [one for one in backup.empty if one.startswith(f"{path}/")]
        trees[path] = _layer(repository, files, empty, path)
    return trees


def _layer(repository: Repository, files: Mapping[str, SavedFile], empty: Sequence[str], path: RelPath) -> MakeTree:
    def make(inside: Inside, target: RelPath) -> None:
        repository.lay_out(files, empty, path, inside, target)

    return make


def world_meets(then: Lock, now: Lock, game: GameDefinition) -> list[Finding]:
    """What is to be known of a world that meets another server than the one that made it. Raises StateError where the
    world is newer."""
    old, new = then.target.game_version, now.target.game_version
    if game.is_newer(old, new):
        raise StateError(
            "world-is-newer",
            f"that world was written by {game.title} {old}, newer than the server's {new}",
            hint="Restore all of the backup (without --only), so that the server matches the world.",
        )
    lost = {one.id for one in then.on_server()} - {one.id for one in now.on_server()}
    if not lost:
        return []
    return [
        Finding(
            code="world-loses-things",
            severity="warning",
            subject=game.world.title,
            what=f"the server had {', '.join(sorted(lost))} at that time and does not have it now; "
            "parts of the world that need it will be lost",
            remedy="Restore all of the backup (without --only) to have that content too.",
        )
    ]


def _plan(host: Host, before: InstanceState, target: RollBackTarget, reporter: Reporter) -> _Return:
    """The plan that makes the folder what it was. Content that is nowhere here is fetched again as the lock names it.

    Raises :class:`StateError` when bytes of the state are not available any more.
    """
    home, game, state, part = before.home, before.game, target.state, target.part
    if part == "world":
        return _Return(Plan(steps=(), inventory=before.inventory), before, ())
    files = {RelPath(path): one for path, one in state.files.items() if part == "all" or one.settings}
    owned = before.inventory.files
    mine = settings_paths(before)
    gone = {*map(RelPath, owned), *mine} - files.keys() if part == "all" else set()
    present = home.hashes(sorted({*files, *gone}), host.store.verified)
    wanted = {path: one for path, one in files.items() if present.get(path) != one.sha256}
    contents = {}
    from_store = {}
    for path, file in wanted.items():
        data = target.bytes_of(path, file)
        if data is not None and (file.settings or not host.store.has(file.sha256, file.size)):
            contents[path] = Written(data, 0o755 if file.executable else 0o600 if file.private else 0o644)
        else:
            from_store[path] = file
    _fetch_missing(host, game, state, from_store, reporter)
    linked = {one.file.sha256 for one in state.lock.on_server()}
    steps = []
    for path, file in files.items():
        action: Action = "keep" if path not in wanted else "replace" if path in present else "place"
        steps.append(
            Step(
                action=action,
                path=path,
                reason="unchanged" if action == "keep" else "as it was",
                wanted=None if path in contents else _wanted(state.inventory, path, file, linked),
            )
        )
    steps += [
        Step(action="remove", path=path, reason="did not exist then", wanted=None) for path in gone if path in present
    ]
    steps.sort(key=lambda step: step.path)
    after = before.as_kept(state)
    if part == "settings":
        after = _with_settings(before, state)
    plan = Plan(steps=tuple(steps), inventory=after.inventory, contents=contents)
    diffs = [
        shown_diff(step.path, home.read(step.path) or b"", contents[step.path].data, game)
        for step in steps
        if step.action == "replace" and step.path in contents
    ]
    return _Return(plan, after, tuple(diffs))


def plan_new_instance(
    host: Host, game: GameDefinition, state: KeptState, texts: Mapping[str, bytes], reporter: Reporter
) -> Plan:
    """The plan that makes a new folder what another one was in ``state``, with ``texts`` as its settings files. Raises
    :class:`StateError`."""
    files = {RelPath(path): one for path, one in state.files.items()}
    from_store = {path: one for path, one in files.items() if path not in texts}
    _fetch_missing(host, game, state, from_store, reporter)
    contents = {
        path: Written(texts[path], 0o600 if file.private else 0o644) for path, file in files.items() if path in texts
    }
    linked = {one.file.sha256 for one in state.lock.on_server()}
    steps = tuple(
        Step(
            action="place",
            path=path,
            reason="as it was",
            wanted=None if path in contents else _wanted(state.inventory, path, file, linked),
        )
        for path, file in sorted(files.items())
    )
    return Plan(steps=steps, inventory=state.inventory, contents=contents)


def _with_settings(before: InstanceState, state: KeptState) -> InstanceState:
    """The instance as it is with the settings as they were."""
    was = state.instance
    instance = msgspec.structs.replace(before.instance, settings=was.settings, chosen=was.chosen)
    return before.with_instance(instance)


def _wanted(inventory: Inventory, path: RelPath, file: KeptFile, linked: set[str]) -> WantedFile:
    owned = inventory.files.get(path)
    return WantedFile(
        sha256=file.sha256,
        size=file.size,
        origin=owned.origin if owned else "kept",
        executable=file.executable,
        linked=file.sha256 in linked and not file.settings,
    )


def _fetch_missing(
    host: Host, game: GameDefinition, state: KeptState, files: Mapping[RelPath, KeptFile], reporter: Reporter
) -> None:
    wanted = {path: (one.sha256, one.size) for path, one in files.items()}
    refetch(host, game, state.lock, state.instance, wanted, reporter)


def _free_entry(home: InstanceFolder, game: GameDefinition, after: InstanceState, others: Sequence[Entry]) -> Entry:
    """What the instance will hold. Raises :class:`StateError` when another one has its ports."""
    entry = entry_of(game, home, after.instance)
    for one in others:
        taken = sorted(set(entry.ports.values()) & one.numbers)
        if taken:
            roles = {number: role for role, number in one.ports.items()}
            role = roles[taken[0]].partition("+")[0] if taken[0] in roles else ""
            held = {*entry.ports.values(), *(number for other in others for number in other.numbers)}
            free = next(number for number in (*range(taken[0], 65536), *range(1024, 65536)) if number not in held)
            fixed = ("--port", f"{role}={free}") if role else ()
            raise StateError(
                "port-taken",
                f"the server had port {taken[0]} at that time; {one.name} ({one.folder}) has it now",
                hint=f"Move the other server first: {command_line('rhizon', 'ports', one.folder, '--move', *fixed)}",
            )
    return entry

"""The whole provision in its order; the folder is the old one or the new one, whatever happens."""

import contextlib
from collections.abc import Collection, Mapping, Sequence
from pathlib import PurePosixPath

import msgspec

from rhizon.adapters.fetching import Progress, fetch_all, missing_from
from rhizon.adapters.files import free_bytes
from rhizon.adapters.instances import CONTENT_LIST, FORGOTTEN, INSTANCE, INVENTORY, LOCK, InstanceFolder
from rhizon.adapters.ledger import Entry
from rhizon.app.foresee.foresee import foresee
from rhizon.app.foresee.known_worlds import remember_world
from rhizon.app.host import Host
from rhizon.app.instance.change import apply_change
from rhizon.app.instance.edited_files import FileDiff, Insisted, files_below, merge_edited, shown_diff
from rhizon.app.instance.exclusive import exclusive, require_stopped
from rhizon.app.instance.reservations import entry_of, others_than, reserved
from rhizon.app.instance.server_state import RUNS, state_of
from rhizon.app.instance.server_tree import piecewise, read_tree, tree_files
from rhizon.app.instance.state import InstanceState, compare_states, load_state
from rhizon.app.instance.wanted_files import locked_files, wanted_files
from rhizon.app.instance.worlds import check_world, things_in_world, world_folder
from rhizon.app.keep.backup import back_up_before
from rhizon.app.provision.bring_up import bring_up
from rhizon.app.provision.choose import Choice, choose
from rhizon.app.provision.instance_record import allocated
from rhizon.app.provision.secrets import resolve_secrets
from rhizon.app.provision.solve_cache import remember, remembered
from rhizon.app.provision.wishes import AskLicence, ProvisionResult, ProvisionWishes, State
from rhizon.app.reporter import Reporter
from rhizon.core.allocate.port_roles import port_words
from rhizon.core.changes import Changes, things_lost
from rhizon.core.check.registry import Topic
from rhizon.core.content_paths import content_paths, leaves_of
from rhizon.core.errors import InputError, StateError
from rhizon.core.finding import Finding, worst_first
from rhizon.core.model.contentlist import ContentList
from rhizon.core.model.encode import content_list_toml
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance, Inventory
from rhizon.core.model.lock import Lock, LockedFile
from rhizon.core.names import RelPath
from rhizon.core.plan import ACTIONS, BESIDE, Plan, Step, WantedFile, make_plan
from rhizon.core.runtimes import family_of
from rhizon.core.secret import revealed
from rhizon.core.start_scripts import START_SCRIPTS, start_scripts
from rhizon.core.units import counted, size_text
from rhizon.core.words import command_line

__all__ = ["provision"]


def provision(
    host: Host, wishes: ProvisionWishes, reporter: Reporter, ask_licence: AskLicence | None = None
) -> ProvisionResult:
    """The whole of it. Without an accepted licence everything is prepared and the first start is left out;
    ``state`` is then "prepared". Raises what its parts raise; the folder is then as it was, except that a
    failed first start leaves the prepared instance."""
    home = host.home(wishes.folder)
    _fit_for_us(home)
    host.places.require_state()  # a dry run fetches what has to be looked into
    if wishes.dry_run:
        return _Work(host, wishes, home, reporter).planned()
    with exclusive(host, home, reporter):
        _fit_for_us(home)  # once more: what was interrupted is rolled back now
        _restore_documents(home, reporter)
        if _runs(host, home):
            unchanged = _Work(host, wishes, home, reporter).unchanged()
            if unchanged is not None:
                return unchanged
        require_stopped(host, home, reporter, stop_first=wishes.stop_first)
        return _Work(host, wishes, home, reporter).done(ask_licence)


def _runs(host: Host, home: InstanceFolder) -> bool:
    return home.is_ours and state_of(host, home).state in RUNS


def _restore_documents(home: InstanceFolder, reporter: Reporter) -> None:
    """Damaged records come back from their copies; what is not available anywhere is written again."""
    for one in home.damaged():
        reporter.step("checking the server's records")
        again = f"put back from the {one.source}" if one.source else "written again"
        reporter.done(f".rhizon/{one.name} was damaged ({one.why}) and is {again}")
    with contextlib.suppress(StateError):
        home.restore_documents()


def _fit_for_us(home: InstanceFolder) -> None:
    """Raises StateError for a folder that is neither new, empty nor a server's."""
    folder = home.folder
    if folder.is_symlink() or (folder.exists() and not folder.is_dir()):
        raise StateError("not-a-folder", f"{folder} is not a folder", hint="Name a new folder or an empty one.")
    if (
        not home.is_ours
        and not home.is_unfinished
        and folder.is_dir()
        and any(one.name != ".rhizon" for one in folder.iterdir())
    ):
        raise StateError(
            "folder-not-ours",
            f"{folder} is not empty and is not a server's folder",
            hint="Name a new folder; Rhizon does not mix its files with other files.",
        )


NO_FILES = Inventory(format="rhizon-inventory/1", files={})


def _game_before(host: Host, home: InstanceFolder, choice: Choice) -> GameDefinition:
    """The definition of the server as it is: of the version and loader that it has now, which say what is left out of
    it. Where its own cannot be found any more, the one that was chosen for the change."""
    instance, lock = home.sound(INSTANCE), home.sound(LOCK)
    if instance is not None and lock is not None:
        with contextlib.suppress(InputError):
            return host.game_of(instance, lock)
    return choice.game


class _Planned(msgspec.Struct, frozen=True, kw_only=True):
    """All that is known before the folder is touched. ``risks_world``: the world will meet other content."""

    after: InstanceState
    plan: Plan
    fetched: int
    changes: Changes | None
    diffs: tuple[FileDiff, ...]
    risks_world: bool
    findings: tuple[Finding, ...]


class _Work:
    """One provision of one folder."""

    def __init__(self, host: Host, wishes: ProvisionWishes, home: InstanceFolder, reporter: Reporter) -> None:
        self._host = host
        self._wishes = wishes
        self._home = home
        self._reporter = reporter
        self._was: Instance | None = home.sound(INSTANCE) if home.is_ours else None
        self._choice = choose(host, wishes, self._was, reporter, remembered(home), self._lock())
        self._before = load_state(host, home, _game_before(host, home, self._choice))
        secrets = resolve_secrets(home, self._choice, wishes, self._was)
        self._wishes = msgspec.structs.replace(wishes, secrets=secrets)

    def _lock(self) -> Lock | None:
        """The lock of the server that is there."""
        return self._home.sound(LOCK) if self._home.is_ours else None

    def planned(self) -> ProvisionResult:
        """What would be done."""
        instance, _ = self._allocated(others_than(self._host, self._home))
        had_world = world_folder(self._home, self._choice.game, instance).exists()
        return self._result(self._plan(instance), instance, "planned", had_world=had_world)

    def unchanged(self) -> ProvisionResult | None:
        """What there is, where that is already all that would be made; None where something would change."""
        instance, _ = self._allocated(others_than(self._host, self._home))
        if instance != self._was or not instance.first_start_done:
            return None
        planned = self._plan(instance)
        if any(step.action != "keep" for step in planned.plan.steps):
            return None
        return self._result(planned, instance, "ready to run", had_world=True)

    def done(self, ask_licence: AskLicence | None) -> ProvisionResult:
        """Makes it so: reserve, lay out, bring up."""
        choice, home = self._choice, self._home
        backup = None
        with reserved(self._host, home, self._allocated) as instance:
            planned = self._plan(instance)
            if planned.risks_world and self._wishes.back_up and self._before is not None:
                saved = back_up_before(self._host, self._before, self._reporter, f"before: {self._why}")
                backup = saved.when
            number = self._lay_out(planned, backup)
        home.remove_own(FORGOTTEN)
        had_world = world_folder(home, choice.game, instance).exists()
        came_from = instance.world_from
        self._foresee(planned.after, ("content", "runtime"))  # before the first start, which may fail for it
        instance, findings, state = bring_up(choice, self._wishes, planned.after, self._reporter, ask_licence)
        had_world = had_world and instance.world_from == came_from
        choice.findings.extend(findings)
        if state == "ready to run":
            remember_world(home, world_folder(home, choice.game, instance).name)
            self._foresee(planned.after.with_instance(instance), ("settings", "ports", "memory", "disk", "world"))
        self._keep_list()
        remember(home, choice.solved)
        return self._result(planned, instance, state, had_world=had_world, kept=number, backup=backup)

    def _allocated(self, others: Sequence[Entry]) -> tuple[Instance, Entry]:
        runs = _runs(self._host, self._home)
        instance = allocated(self._host, self._choice, self._wishes, self._was, others, runs=runs)
        return instance, entry_of(self._choice.game, self._home, instance)

    def _foresee(self, state: InstanceState, topics: Collection[Topic]) -> None:
        """Adds what the rules find that was not said by another name of the same file."""
        said = {(one.code, PurePosixPath(one.subject).name) for one in self._choice.findings}
        found = foresee(self._host, state, None, topics, ask_runtime=False)
        self._choice.findings.extend(one for one in found if (one.code, PurePosixPath(one.subject).name) not in said)

    @property
    def _why(self) -> str:
        return self._wishes.why or f"provision from {self._choice.source.label}"

    def _keep_list(self) -> None:
        """Of a plain folder of archives the list that says the same is kept."""
        source = self._choice.source
        if source.files and isinstance(source.document, ContentList):
            files = source.outcome(self._choice.lock)
            notes = [f"{one.path}: {one.state}; {one.why}" for one in files if one.state != "taken"]
            self._home.write_own(CONTENT_LIST, content_list_toml(source.document, notes).encode())

    def _plan(self, instance: Instance) -> _Planned:
        """Everything that will change, without changing it: the files are fetched, settings merged, and the plan
        made."""
        host, home, choice = self._host, self._home, self._choice
        check_world(home, choice.game, choice.lock, instance, self._wishes.world)
        fetched = _fetch(host, choice, home, self._before, self._reporter)
        lock, game, before = choice.lock, choice.game, self._before
        for data in (*choice.source.overlay.values(), *choice.source.player_overlay.values()):
            host.store.add(data)
        wanted = wanted_files(lock, game, host.store, choice.runtime, allow_installer=self._wishes.allow_installer)
        content = content_paths(game, lock)
        scripts = start_scripts(game, lock.target.loader, choice.runtime, instance.heap_mib, content)
        for path, data in scripts.items():
            sha256 = host.store.add(data)
            wanted[path] = WantedFile(
                sha256=sha256, size=len(data), origin="rhizon's start script", executable=path == START_SCRIPTS[0]
            )
        inventory = home.sound(INVENTORY) if home.is_ours else None
        owned = inventory.files if inventory else {}
        paths = {*wanted, *map(RelPath, owned), *(RelPath(path + BESIDE) for path in wanted)}
        present = home.hashes(sorted(paths), host.store.verified)
        settled = merge_edited(
            host.store,
            self._known(inventory),
            InstanceState(home=home, game=game, lock=lock, instance=instance, inventory=inventory or NO_FILES),
            wanted,
            Insisted(
                {**{name: choice.settings[name] for name in self._wishes.settings}, **revealed(self._wishes.secrets)}
            ),
        )
        plan = self._without_leaves(make_plan(wanted, present, inventory, game.world, settled))
        after = InstanceState(home=home, game=game, lock=lock, instance=instance, inventory=plan.inventory)
        changes = compare_states(before, after) if before is not None else None
        world = world_folder(home, game, self._was or instance)
        risks = changes is not None and changes.touches_world and world.exists()
        findings = (
            things_lost(_in_home(home, world), str(self._wishes.folder), things_in_world(self._home, world, game), lock)
            if risks
            else []
        )
        findings += self._other_world(instance)
        findings += self._little_memory(instance)
        if risks and self._wishes.back_up:
            step = Step(action="back up", path=RelPath(game.world.title), reason="its content will change", wanted=None)
            plan = msgspec.structs.replace(plan, steps=(step, *plan.steps))
        return _Planned(
            after=after,
            plan=plan,
            fetched=fetched,
            changes=changes,
            diffs=tuple(self._diffs(plan)),
            risks_world=risks,
            findings=tuple(findings),
        )

    def _without_leaves(self, plan: Plan) -> Plan:
        """The plan that also removes what the server made for content that goes."""
        if self._before is None:
            return plan
        stays = {one.id for one in self._choice.lock.on_server()}
        planned = {step.path for step in plan.steps}
        steps = []
        with self._home.inside() as inside:
            for release in self._before.lock.on_server():
                for leaf in () if release.id in stays else leaves_of(self._before.game, release):
                    steps += [
                        Step(action="remove", path=path, reason=f"made for {release.id}, which goes", wanted=None)
                        for path in files_below(inside, leaf)
                        if path not in planned and not self._before.game.world.covers(path)
                    ]
        if not steps:
            return plan
        return msgspec.structs.replace(plan, steps=tuple(sorted((*plan.steps, *steps), key=lambda one: one.path)))

    def _known(self, inventory: Inventory | None) -> InstanceState | None:
        """The server before, as far as it is known: where its lock is lost, with the new one in its place."""
        if self._before is not None or self._was is None:
            return self._before
        return InstanceState(
            home=self._home,
            game=self._choice.game,
            lock=self._choice.lock,
            instance=self._was,
            inventory=inventory or NO_FILES,
        )

    def _other_world(self, instance: Instance) -> list[Finding]:
        """The source names another world than the one in use: it is not entered by the way."""
        name = self._choice.game.world.name_setting
        wanted = self._choice.settings.get(name)
        if wanted in (None, instance.settings.get(name)):
            return []
        return [
            Finding(
                code="world-stays",
                severity="note",
                subject=name,
                what=f"{self._choice.source.label} names the world {wanted}; the server keeps using "
                f"{instance.settings.get(name)}",
                remedy=f"To change worlds: {command_line('rhizon', 'set', self._home.folder, f'{name}={wanted}')}",
            )
        ]

    def _little_memory(self, instance: Instance) -> list[Finding]:
        """The pack's author says how much it needs at least."""
        needs = self._choice.lock.pack_memory
        if needs is None or instance.heap_mib >= needs.least_mib:
            return []
        return [
            Finding(
                code="memory-below-pack",
                severity="warning",
                subject="memory",
                what=f"{instance.heap_mib} MiB of heap is less than the pack needs (at least {needs.least_mib} MiB)",
                remedy=f"Grant more, as in --memory {needs.recommended_mib} (recommended).",
            )
        ]

    def _diffs(self, plan: Plan) -> list[FileDiff]:
        told = []
        for step in plan.steps:
            if step.action == "merge":
                before = self._home.read(step.path) or b""
                told.append(shown_diff(step.path, before, plan.contents[step.path].data, self._choice.game))
        return told

    def _lay_out(self, planned: _Planned, backup: str | None) -> int | None:
        """Carries the plan out in one transaction; answers the number of the state before."""
        plan = planned.plan
        self._reporter.step("laying out the files")
        number = apply_change(
            self._host.store,
            self._before,
            planned.after,
            plan,
            self._why,
            backup=backup,
        )
        counts = [
            f"{plan.count(action)} {_DONE[action]}" for action in ACTIONS if action in _DONE and plan.count(action)
        ]
        self._reporter.done(f"files: {', '.join(counts)}")
        return number

    def _result(
        self,
        planned: _Planned,
        instance: Instance,
        state: State,
        *,
        had_world: bool,
        kept: int | None = None,
        backup: str | None = None,
    ) -> ProvisionResult:
        """What a person is told of it."""
        choice, home, game = self._choice, self._home, self._choice.game
        family = family_of(game.runtime)
        return ProvisionResult(
            folder=str(home.folder),
            name=instance.name,
            title=choice.source.title,
            game=game.id,
            game_title=game.title,
            state=state,
            note=instance.note,
            lock=choice.lock,
            runtime=choice.runtime,
            runtime_why=choice.runtime_why,
            heap_mib=instance.heap_mib,
            bounded=bool(family and choice.runtime and family.described(choice.runtime.major, instance.heap_mib)),
            budget=choice.budget,
            ports=instance.ports,
            port_words=port_words(game, instance.ports),
            steps=planned.plan.steps,
            folder_files=choice.source.outcome(choice.lock),
            left_out=tuple(one for one in choice.lock.releases if not one.on_server),
            fetched=planned.fetched,
            changes=planned.changes,
            diffs=planned.diffs,
            kept=kept,
            backup=backup,
            world=_world_text(home, instance, choice, had=had_world),
            licence_text=str(home.folder / game.licence.text) if game.licence else "",
            findings=tuple(worst_first(_each_once([*planned.plan.findings, *planned.findings, *choice.findings]))),
        )


def _each_once(findings: Sequence[Finding]) -> list[Finding]:
    """The first of what has the same code and subject: the plan and the rules may both see one thing."""
    first: dict[tuple[str, str], Finding] = {}
    for one in findings:
        first.setdefault((one.code, one.subject), one)
    return list(first.values())


_DONE: Mapping[str, str] = {
    "place": "placed",
    "replace": "replaced",
    "merge": "merged",
    "remove": "removed",
    "keep": "kept",
}


def _in_home(home: InstanceFolder, path: object) -> str:
    """A path in the instance as people read it."""
    return str(path).removeprefix(f"{home.folder}/")


def _fetch(host: Host, choice: Choice, home: InstanceFolder, before: InstanceState | None, reporter: Reporter) -> int:
    """Fetches what the store lacks; answers how many files came. Raises RemoteError, TrustError, StateError (no
    space)."""
    lock = choice.lock
    files = locked_files(lock)
    missing = missing_from(host.store, files)
    size = _room_for(host, home, missing)
    reporter.step(f"fetching {counted(len(missing), 'file')}")

    def tell(got: Progress) -> None:
        reporter.progress(got.text, got.part)

    came = fetch_all(choice.catalogs, files, host.store, tell)
    tree = read_tree(host.store, lock)
    if tree is not None:
        listed = missing_from(host.store, tree_files(lock, tree))
        size += _room_for(host, home, listed)
        known = piecewise(host.store, tree, [before.lock] if before else [])
        came += fetch_all(choice.catalogs, listed, host.store, tell, known)
    reporter.done(
        f"{counted(came, 'file')} fetched and verified ({size_text(size)})" if came else "all files were in the store"
    )
    return came


def _room_for(host: Host, home: InstanceFolder, missing: Sequence[LockedFile]) -> int:
    size = sum(file.size for file in missing)
    free = min(free_bytes(host.places.store), free_bytes(home.folder))
    if size > free:
        raise StateError(
            "disk-full",
            f"{size_text(size)} must be downloaded, {size_text(free)} free",
            hint="Free some space, or set RHIZON_STATE to a folder on a larger disk.",
        )
    return size


def _world_text(home: InstanceFolder, instance: Instance, choice: Choice, *, had: bool) -> str:
    world = world_folder(home, choice.game, instance)
    name = _in_home(home, world)
    if instance.world_from and not had:
        return f"{name} was copied from {instance.world_from}"
    if had:
        return f"{name} unchanged"
    return (
        f"{name} was created by the first start" if world.exists() else f"{name} will be created when the server starts"
    )

"""The whole provision in its order; the folder is the old one or the new one, whatever happens."""

from pathlib import Path

from rhizon.adapters.fetching import fetch_all, missing_from
from rhizon.adapters.files import free_bytes, hash_present, translated, write_atomic
from rhizon.adapters.instances import CONTENT_LIST, INVENTORY, LOCK, InstanceFolder
from rhizon.adapters.transact import JOURNAL, apply
from rhizon.app.context import Host, open_ledger
from rhizon.app.layout import locked_files, wanted_files
from rhizon.app.provision.bring_up import bring_up, until_written
from rhizon.app.provision.choose import Choice, choose
from rhizon.app.provision.hold import allocated, protocols, record
from rhizon.app.provision.wishes import AskLicence, Provisioned, ProvisionWishes, State
from rhizon.app.reporter import Reporter
from rhizon.core.errors import StateError
from rhizon.core.finding import worst_first
from rhizon.core.launch import START_SCRIPTS, start_scripts
from rhizon.core.model.contentlist import ContentList
from rhizon.core.model.instance import Instance, Inventory
from rhizon.core.model.write import content_list_toml
from rhizon.core.names import RelPath
from rhizon.core.plan import Action, Plan, WantedFile, make_plan
from rhizon.core.units import counted, size_text

__all__ = ["provision"]


def provision(
    host: Host, wishes: ProvisionWishes, reporter: Reporter, ask_licence: AskLicence | None = None
) -> Provisioned:
    """The whole of it. Without an accepted licence everything is prepared and the first start is left out;
    ``state`` is then "prepared". Raises what its parts raise; the folder is then as it was, except that a
    failed first start leaves the prepared instance."""
    home = InstanceFolder(wishes.folder)
    _fit_for_us(home)
    if wishes.dry_run:
        before = home.instance() if home.is_ours else None
        choice = choose(host, wishes, before, reporter)
        with open_ledger(host) as ledger:
            instance = allocated(choice, wishes, home, before, ledger)
        plan, fetched = _planned(host, choice, wishes, home, instance, reporter)
        had_world = _world(home, choice, instance).is_dir()
        return _result(home, choice, instance, plan, fetched, "planned", had_world=had_world)
    with home.busy() as taken_back:
        if taken_back:
            reporter.step("an earlier change was cut short")
            reporter.done("an earlier change was cut short; it was taken back")
        _fit_for_us(home)
        home.not_running()
        before = home.instance() if home.is_ours else None
        choice = choose(host, wishes, before, reporter)
        with open_ledger(host) as ledger:
            with ledger.claim():
                instance = allocated(choice, wishes, home, before, ledger)
                kept = next((one for one in ledger.entries() if one.folder == str(home.folder)), None)
                record(ledger, choice, home, instance)
            try:
                plan, fetched = _planned(host, choice, wishes, home, instance, reporter)
                _lay_out(host, choice, home, until_written(before, instance), plan, reporter)
            except BaseException:
                with ledger.claim():
                    ledger.forget(str(home.folder))
                    if kept is not None:
                        ledger.record(kept, protocols(choice, before or instance))
                raise
        had_world = _world(home, choice, instance).is_dir()
        instance, findings, state = bring_up(choice, wishes, home, before, instance, reporter, ask_licence)
        choice.findings.extend(findings)
        if wishes.source.is_dir() and isinstance(choice.source.document, ContentList):  # a plain folder of archives
            with translated("write the content list", home.own):
                write_atomic(home.own / CONTENT_LIST, content_list_toml(choice.source.document).encode())
        return _result(home, choice, instance, plan, fetched, state, had_world=had_world)


_DONE: tuple[tuple[Action, str], ...] = (
    ("place", "placed"),
    ("replace", "replaced"),
    ("remove", "removed"),
    ("keep", "kept"),
)


def _fit_for_us(home: InstanceFolder) -> None:
    folder = home.folder
    if folder.is_symlink() or (folder.exists() and not folder.is_dir()):
        raise StateError("not-a-folder", f"{folder} is not a folder", hint="Name a new folder or an empty one.")
    unfinished = (home.own / JOURNAL).is_file()
    if (
        not home.is_ours
        and not unfinished
        and folder.is_dir()
        and any(one.name != ".rhizon" for one in folder.iterdir())
    ):
        raise StateError(
            "folder-not-ours",
            f"{folder} is not empty, and it is not an instance of Rhizon's",
            hint="Name a new folder; Rhizon does not mix its files with others.",
        )


def _planned(
    host: Host,
    choice: Choice,
    wishes: ProvisionWishes,
    home: InstanceFolder,
    instance: Instance,
    reporter: Reporter,
) -> tuple[Plan, int]:
    fetched = _fetch(host, choice, home, reporter)
    lock, game = choice.lock, choice.game
    wanted = wanted_files(lock, game, choice.source, host.store, choice.runtime, allow_installer=wishes.allow_installer)
    for path, data in start_scripts(game, lock.target.loader, choice.runtime, instance.heap_mib).items():
        sha256 = host.store.add(data)
        wanted[path] = WantedFile(sha256=sha256, size=len(data), origin="rhizon", executable=path == START_SCRIPTS[0])
    before: Inventory | None = home.inventory() if home.has(INVENTORY) else None
    paths = set(wanted) | {RelPath(path) for path in (before.files if before else ())}
    present = hash_present(home.folder, paths) if home.folder.is_dir() else {}
    return make_plan(wanted, present, before, RelPath(game.world.folder)), fetched


def _fetch(host: Host, choice: Choice, home: InstanceFolder, reporter: Reporter) -> int:
    files = locked_files(choice.lock)
    missing = missing_from(host.store, files)
    size = sum(file.size for file in missing)
    free = min(free_bytes(host.places.store), free_bytes(home.folder))
    if size > free:
        raise StateError(
            "disk-full",
            f"{size_text(size)} are to be fetched, {size_text(free)} are free",
            hint="Free some space, or set RHIZON_STATE to a folder on a larger disk.",
        )
    reporter.step(f"fetching {counted(len(missing), 'file')}")
    came = fetch_all(
        choice.catalogs, files, host.store, lambda so_far, total: reporter.progress("fetching", so_far / max(total, 1))
    )
    reporter.done(
        f"{counted(came, 'file')} fetched and verified ({size_text(size)})"
        if came
        else "every file was in the store already"
    )
    return came


def _lay_out(
    host: Host, choice: Choice, home: InstanceFolder, instance: Instance, plan: Plan, reporter: Reporter
) -> None:
    reporter.step("laying out the instance")
    same = (
        not plan.changes
        and home.has(INVENTORY)
        and home.inventory() == plan.inventory
        and home.has(LOCK)
        and home.lock() == choice.lock
        and home.is_ours
        and home.instance() == instance
    )
    if not same:
        apply(home.folder, plan, home.records(choice.lock, instance, plan.inventory), host.store)
    counts = [f"{plan.count(action)} {word}" for action, word in _DONE if plan.count(action)]
    reporter.done(f"files: {', '.join(counts)}")


def _world(home: InstanceFolder, choice: Choice, instance: Instance) -> Path:
    game = choice.game
    name = instance.settings.get(game.world.name_setting, game.settings[game.world.name_setting].default)
    return home.folder / game.world.folder / str(name)


def _world_text(home: InstanceFolder, world: Path, *, had: bool) -> str:
    name = world.relative_to(home.folder).as_posix()
    if had:
        return f"{name} was there and is as it was"
    return f"{name} was raised by the first start" if world.is_dir() else f"{name} is raised when the server starts"


def _result(
    home: InstanceFolder,
    choice: Choice,
    instance: Instance,
    plan: Plan,
    fetched: int,
    state: State,
    *,
    had_world: bool,
) -> Provisioned:
    game = choice.game
    return Provisioned(
        folder=str(home.folder),
        name=instance.name,
        title=choice.source.title,
        state=state,
        note=instance.note,
        lock=choice.lock,
        runtime=choice.runtime,
        runtime_why=choice.runtime_why,
        heap_mib=instance.heap_mib,
        budget=choice.budget,
        ports=instance.ports,
        steps=plan.steps,
        left_out=tuple(one for one in choice.lock.releases if not one.on_server),
        fetched=fetched,
        world=_world_text(home, _world(home, choice, instance), had=had_world),
        licence_text=str(home.folder / game.licence.text) if game.licence else "",
        findings=tuple(worst_first([*choice.findings, *plan.findings])),
    )

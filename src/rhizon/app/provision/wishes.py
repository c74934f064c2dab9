"""What a person asks for, and what comes out."""

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.app.choose.runtimes import RuntimeWish
from rhizon.app.instance.edited_files import FileDiff
from rhizon.app.provision.adjust import ContentChanges
from rhizon.core.allocate.memory import STEP_MIB, MemoryBudget
from rhizon.core.changes import Changes
from rhizon.core.finding import Finding
from rhizon.core.folder_files import FolderFile
from rhizon.core.model.instance import RuntimeChoice
from rhizon.core.model.lock import Lock, LockedRelease
from rhizon.core.plan import Action, Step
from rhizon.core.secret import Secret
from rhizon.core.units import mib_text

__all__ = ["AskLicence", "AskSecret", "LicenceText", "ProvisionResult", "ProvisionWishes", "State"]


class ProvisionWishes(msgspec.Struct, frozen=True, kw_only=True):
    """What a person asks for beside the source.

    ``name`` is the server's on this host (None: it keeps its name, a new one gets that of the source); ``game`` is of a
    source that is a plain folder of archives; ``settings`` are as typed; ``secrets`` never leave memory but for the
    server's own files; ``remember_catalogs`` is where the instance finds its catalogs later, when that is not where
    they are now. ``world`` is the folder of a world to take over: it is copied. ``stop_first`` stops a server that
    runs; ``back_up`` saves the world before it meets other content; ``why`` is what the kept state says of the change.
    ``rented`` is a remote: the server keeps to what its host dictates (None: as before).
    ``first_start`` is with the content or not (None: as the definition says).
    ``content`` is left out or held at other releases, whatever the source says. ``ask_secret`` is asked for secrets
    that a list wants a person to type.
    """

    source: Path
    folder: Path
    name: str | None = None
    game: str | None = None
    catalogs: tuple[str, ...] = ()
    remember_catalogs: tuple[str, ...] = ()
    runtime: RuntimeWish = RuntimeWish()
    accept_licence: bool = False
    allow_installer: bool = False
    memory_mib: int | None = None
    ports: Mapping[str, int] = {}
    settings: Mapping[str, str | int | bool] = {}
    secrets: Mapping[str, Secret] = {}
    world: Path | None = None
    first_start: Literal["bare", "content"] | None = None
    rented: str | None = None
    stop_first: bool = False
    back_up: bool = True
    why: str = ""
    dry_run: bool = False
    ask_secret: "AskSecret | None" = None
    content: ContentChanges = ContentChanges()


class LicenceText(msgspec.Struct, frozen=True, kw_only=True):
    """The licence that somebody must accept: of which game, where its text is, and the text."""

    game: str
    path: Path
    text: str


State = Literal["planned", "prepared", "ready to run"]
AskLicence = Callable[[LicenceText], bool]
AskSecret = Callable[[str], Secret]


class ProvisionResult(msgspec.Struct, frozen=True, kw_only=True):
    """What came out. ``state`` says how far it went: "prepared" waits for an accepted licence. ``changes`` and
    ``diffs`` are against what was there, ``kept`` is the number of the state before, ``backup`` the time of the backup
    that was made of its world. ``bounded`` says whether the runtime is given a bound for its heap; where it is not,
    the memory is what the server is estimated to use. ``port_words`` are the ports as people write them;
    ``folder_files`` what became of each file of a folder of archives; ``ready_seconds`` from its start to ready, where
    it was started, too.
    """

    folder: str
    name: str
    title: str
    game: str
    game_title: str
    state: State
    note: str
    lock: Lock
    runtime: RuntimeChoice | None
    runtime_why: tuple[str, ...]
    heap_mib: int
    bounded: bool
    budget: MemoryBudget
    ports: dict[str, int]
    port_words: tuple[str, ...]
    steps: tuple[Step, ...]
    left_out: tuple[LockedRelease, ...]
    folder_files: tuple[FolderFile, ...]
    fetched: int
    changes: Changes | None
    diffs: tuple[FileDiff, ...]
    kept: int | None
    backup: str | None
    world: str
    licence_text: str
    ready_seconds: float | None = None
    findings: tuple[Finding, ...]

    @property
    def memory_words(self) -> str:
        """What the server may take, and where the number comes from: the parts that add up to it, or who asked."""
        one = self.budget
        parts = f"game {one.base_mib}, players {one.players_mib}, content {one.content_mib}, world {one.settings_mib}"
        if self.heap_mib != one.heap_mib:
            why = f"as requested; {mib_text(one.heap_mib)} recommended"
        elif one.heap_mib > one.parts_mib + STEP_MIB:
            why = f"{one.because}; its parts need {mib_text(one.parts_mib)}: {parts}"
        else:
            why = parts
        if self.bounded:
            return f"{mib_text(self.heap_mib)} of heap ({why}) and {mib_text(one.outside_heap_mib)} beside it"
        return f"estimated {mib_text(self.heap_mib + one.outside_heap_mib)} ({why}), not enforced"

    @property
    def changes_nothing(self) -> bool:
        """Whether the server is, or was, already what it would become."""
        return (self.changes is None or self.changes.none) and all(step.action == "keep" for step in self.steps)

    def count(self, action: Action) -> int:
        """How many files this was done to."""
        return sum(step.action == action for step in self.steps)

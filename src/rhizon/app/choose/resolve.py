"""From a source to a lock."""

import contextlib
import hashlib
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Literal

import msgspec

from rhizon import __version__
from rhizon.adapters.catalogs import Catalogs
from rhizon.adapters.http import Network
from rhizon.app.choose.beside_lock import archives_beside, take_beside
from rhizon.app.choose.sources import Source
from rhizon.app.choose.timed import WAIT_SECONDS, TimedWatch
from rhizon.app.host import Host, majors_to_try
from rhizon.app.reporter import Reporter
from rhizon.core.errors import CancelledError, NoSolutionError
from rhizon.core.model.decode import encode_line
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import LaidFile, Lock
from rhizon.core.names import RelPath
from rhizon.core.runtimes import family_of
from rhizon.core.settings.apply import require_no_secrets
from rhizon.core.settings.content import with_content
from rhizon.core.solve import Solution, solve
from rhizon.core.units import counted

__all__ = ["Prefer", "Remembered", "SolveOptions", "Stopping", "catalogs_for", "named_majors", "solve_source"]

Prefer = Literal["list", "current"]
Stopping = Callable[[], AbstractContextManager[Callable[[], bool]]]  # gives what says whether to stop


def _never() -> AbstractContextManager[Callable[[], bool]]:
    return contextlib.nullcontext(lambda: False)


class Remembered(msgspec.Struct, frozen=True, kw_only=True):
    """An answer and the question that it belongs to, as a hash: the same question has the same answer."""

    question: str
    solution: Solution


def catalogs_for(
    host: Host,
    source: Source,
    game: GameDefinition,
    named: tuple[str, ...],
    reporter: Reporter,
    extra: tuple[str, ...] = (),
) -> Catalogs:
    """The archives that a list names, then the catalogs that a person named (relative to here), then those of the
    source (relative to it). ``extra`` is used where neither names one: the catalogs of an instance's last provision.
    With a lock, a folder that is no catalog holds archives that it names.
    """
    if isinstance(source.document, Lock):
        folders = [Path(one) for one in named if "://" not in one and Path(one).is_dir()]
        plain = [one for one in folders if not (one / "catalog.json").exists()]
        take_beside(host, source.document, (archives_beside(source.path), *plain))
        named = tuple(one for one in named if Path(one) not in plain)
    beside_source = tuple(one if "://" in one else str((source.beside / one).absolute()) for one in source.catalogs)
    here = tuple(dict.fromkeys((*named, *beside_source))) or extra
    if not here and source.kind == "lock":
        return Catalogs([], Network())  # all of it may be in the store
    catalogs = host.open_catalogs(here, Path.cwd())
    if source.archives:
        from rhizon.app.choose.folder_source import local_archives  # reads archives: slow to import, and seldom needed

        catalogs.put_first(*local_archives(host, source.archives, source.beside, game, reporter))
    return catalogs


def named_majors(source: Source, game: GameDefinition) -> tuple[int, ...]:
    """The runtime major that a list or pack names exactly, then the long-term ones: no one need ask then what this
    machine has. Nothing where no major is named."""
    family = family_of(game.runtime)
    wanted = source.request(()).target.runtime.comparators
    named = [int(one.version.text) for one in wanted if one.op == "=" and one.version.text.isdecimal()]
    return tuple(dict.fromkeys((*named, *(family.long_term if family else ())))) if named else ()


class SolveOptions(msgspec.Struct, frozen=True, kw_only=True):
    """How to choose: as close as possible to the lock ``keep``; newest in the order of the list or ``current`` over all
    of it; only with these runtime ``majors``. Where ``remembered`` answers the same question, nothing is solved. It
    ends after ``wait`` seconds with the best answer so far, or when what ``stopping`` gives says so, which is around
    the search alone."""

    keep: Lock | None = None
    prefer: Prefer = "list"
    majors: tuple[int, ...] | None = None
    remembered: Remembered | None = None
    wait: float = WAIT_SECONDS
    stopping: Stopping = _never


UNPROVED = ("optional-not-proved", "target-not-proved", "keep-not-proved")


def solve_source(
    host: Host,
    source: Source,
    game: GameDefinition,
    catalogs: Catalogs,
    reporter: Reporter,
    options: SolveOptions = SolveOptions(),
) -> Remembered:
    """The lock of a list or pack; a lock is its own solution. Raises NoSolutionError, RemoteError, InputError."""
    keep, prefer, remembered = options.keep, options.prefer, options.remembered
    require_no_secrets(game, source.settings, source.label)
    if isinstance(source.document, Lock):
        return Remembered(question="", solution=Solution(lock=source.document, findings=()))
    reporter.step(f"solving {source.label}")
    majors = options.majors or named_majors(source, game) or majors_to_try(game, host.runtimes(game))
    question = _question(source, game, catalogs, majors) if keep is None and prefer == "list" else ""
    if remembered is not None and question and question == remembered.question:
        reporter.done("the list and its catalogs have not changed")
        return remembered
    catalogs.prefetch(game.id, list(source.document.content))  # over a network one after the other takes far longer
    request = msgspec.structs.replace(source.request(majors), keep=keep, prefer=prefer)
    with options.stopping() as asked:
        watch = TimedWatch(options.wait, reporter, asked)
        try:
            solution = solve(request, game, catalogs, watch)
        except NoSolutionError as refused:
            if watch.interrupted and refused.code == "solve-gave-up":
                raise CancelledError(
                    "solve-interrupted", f"{source.label}: interrupted before there was an answer", hint=refused.hint
                ) from None
            raise
    if any(one.code in UNPROVED for one in solution.findings):
        question = ""  # with more time the answer may be another one
    lock = _whole(solution.lock, source)
    require_no_secrets(with_content(game, lock), source.settings, source.label)
    target = lock.target
    text = target.words_for(game.title)
    if target.runtime_major:
        text += f", {target.runtime.capitalize()} {target.runtime_major}"
    reporter.done(f"{counted(len(lock.releases), 'release')} for {text}")
    whole = Solution(lock=lock, findings=(*solution.findings, *catalogs.findings))
    return Remembered(question=question, solution=whole)


def _question(source: Source, game: GameDefinition, catalogs: Catalogs, majors: tuple[int, ...]) -> str:
    """A hash of everything that an answer depends on; empty where that cannot be had cheaply."""
    known = catalogs.fingerprint(game.id) if not source.archives else None
    if known is None:
        return ""
    laid = (source.overlay, source.player_overlay)
    overlay = "".join(f"{path} {hashlib.sha256(data).hexdigest()}" for one in laid for path, data in one.items())
    digest = hashlib.sha256()
    for part in (__version__.encode(), known.encode(), repr(majors).encode(), overlay.encode()):
        digest.update(part + b"\0")
    digest.update(encode_line(source.document) + encode_line(game))
    return digest.hexdigest()


def _laid(overlay: Mapping[RelPath, bytes]) -> tuple[LaidFile, ...]:
    return tuple(
        LaidFile(path=path, sha256=hashlib.sha256(data).hexdigest(), size=len(data))
        for path, data in sorted(overlay.items())
    )


def _whole(lock: Lock, source: Source) -> Lock:
    """The solved lock with what the list or pack says beside its content."""
    return msgspec.structs.replace(
        lock,
        title=source.title,
        overlay=_laid(source.overlay),
        player_overlay=_laid(source.player_overlay),
        settings=dict(sorted(source.settings.items())),
        memory_mib=source.memory_mib,
        pack_memory=source.pack_memory,
    )

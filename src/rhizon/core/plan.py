"""What a transaction will do to an instance folder, as data. An adapter carries it out and decides nothing."""

import hashlib
from collections.abc import Iterable, Mapping
from typing import Literal

import msgspec

from rhizon.core.errors import StateError
from rhizon.core.finding import Finding
from rhizon.core.model.game_world import WorldRule
from rhizon.core.model.instance import Inventory, OwnedFile
from rhizon.core.names import RelPath, fold

__all__ = ["ACTIONS", "BESIDE", "Action", "Plan", "Settled", "Step", "WantedFile", "Written", "make_plan"]

Action = Literal["back up", "place", "replace", "merge", "remove", "keep"]
ACTIONS: tuple[Action, ...] = ("back up", "place", "replace", "merge", "remove", "keep")
BESIDE = ".shipped"  # a new shipped file that could not be merged whole is beside the person's under this ending


class WantedFile(msgspec.Struct, frozen=True, kw_only=True):
    """A file that will be there. Its bytes are in the store under ``sha256``.

    ``edited`` files may change in use (by the server or a person): they are placed once and never replaced.
    ``linked`` files are written by no one: only those may be links into the store. What ``patches`` may take the
    place of one of the server's own.
    """

    sha256: str
    size: int
    origin: str
    executable: bool = False
    edited: bool = False
    linked: bool = False
    patches: bool = False


class Written(msgspec.Struct, frozen=True):
    """Bytes that are in no store, since they may hold a secret, and the mode of their file."""

    data: bytes
    mode: int = 0o644


class Settled(msgspec.Struct, frozen=True, kw_only=True):
    """A file that people and the server change too, after a merge. ``there`` says whether it exists, ``after`` is
    None where it stays as it is, ``beside`` what was shipped where not all of it could be taken over."""

    there: bool
    after: Written | None
    reason: str
    beside: bytes | None = None
    findings: tuple[Finding, ...] = ()


class Step(msgspec.Struct, frozen=True, kw_only=True):
    """One change of one file (or of a whole folder: ``back up``) and the reason for it. ``wanted`` is what comes from
    the store, None where nothing does."""

    action: Action
    path: RelPath
    reason: str
    wanted: WantedFile | None


class Plan(msgspec.Struct, frozen=True, kw_only=True):
    """Steps in path order, the inventory that will then be true, and what to know. ``contents`` are the bytes of files
    that come from no store."""

    steps: tuple[Step, ...]
    inventory: Inventory
    findings: tuple[Finding, ...] = ()
    contents: Mapping[RelPath, Written] = {}

    def count(self, action: Action) -> int:
        """How many steps do this."""
        return sum(step.action == action for step in self.steps)

    @property
    def changes(self) -> tuple[Step, ...]:
        """The steps that touch the folder."""
        return tuple(step for step in self.steps if step.action not in ("keep", "back up"))


def make_plan(
    wanted: Mapping[RelPath, WantedFile],
    present: Mapping[RelPath, str],
    before: Inventory | None,
    world: WorldRule,
    settled: Mapping[RelPath, Settled] | None = None,
) -> Plan:
    """The plan that turns ``present`` (path to SHA-256 of every file that is wanted or owned) into ``wanted``.

    A file that a person put there or changed is never overwritten or removed: what is in the way and is
    not ours raises :class:`StateError`, an edit of one of ours is kept and becomes a finding. ``settled`` are the
    files that were merged instead. Nothing of a ``world`` may be wanted.
    """
    settled = settled or {}
    _check_names((*wanted, *settled), world)
    owned = before.files if before else {}
    steps: list[Step] = []
    files: dict[str, OwnedFile] = {}
    findings: list[Finding] = []
    contents: dict[RelPath, Written] = {}
    for path in wanted:
        file = wanted[path]
        files[path] = OwnedFile(
            sha256=file.sha256, size=file.size, origin=file.origin, edited=file.edited, executable=file.executable
        )
        if path in settled:
            continue
        action, reason = _toward(path, file, present.get(path), owned.get(path))
        steps.append(Step(action=action, path=path, reason=reason, wanted=file))
        kept_edit = action == "keep" and present.get(path) != file.sha256
        if kept_edit and not file.edited:
            findings.append(_edited(path, "the new version was not applied"))
    for path, one in settled.items():
        findings += one.findings
        if one.after is None:
            if one.there:
                steps.append(Step(action="keep", path=path, reason=one.reason, wanted=None))
            continue
        steps.append(Step(action="merge" if one.there else "place", path=path, reason=one.reason, wanted=None))
        contents[path] = one.after
    steps += _beside(settled, present, files, contents)
    for path in map(RelPath, set(owned) - set(files)):
        if path not in present or path in settled:
            continue
        if path.endswith(BESIDE) and path.removesuffix(BESIDE) in files:
            files[path] = owned[path]  # until the person has looked at it and deletes it
        elif present[path] == owned[path].sha256:
            steps.append(Step(action="remove", path=path, reason="no longer part of the server", wanted=None))
        elif owned[path].edited:
            files[path] = owned[path]
        else:
            findings.append(_edited(path, "no longer part of the server, left in place"))
    steps.sort(key=lambda step: step.path)
    findings.sort(key=lambda one: one.subject)
    inventory = Inventory(format="rhizon-inventory/1", files=dict(sorted(files.items())))
    return Plan(steps=tuple(steps), inventory=inventory, findings=tuple(findings), contents=contents)


def _beside(
    settled: Mapping[RelPath, Settled],
    present: Mapping[RelPath, str],
    files: dict[str, OwnedFile],
    contents: dict[RelPath, Written],
) -> list[Step]:
    """Puts what was shipped beside the files that clash with it."""
    steps = []
    for path, one in settled.items():
        if one.beside is None:
            continue
        place = RelPath(path + BESIDE)
        sha256 = hashlib.sha256(one.beside).hexdigest()
        origin = f"what was shipped for {path}"
        files[place] = OwnedFile(sha256=sha256, size=len(one.beside), origin=origin, edited=True)
        if present.get(place) != sha256:
            contents[place] = Written(one.beside)
            steps.append(
                Step(action="replace" if place in present else "place", path=place, reason=origin, wanted=None)
            )
    return steps


def _toward(path: RelPath, file: WantedFile, there: str | None, owned: OwnedFile | None) -> tuple[Action, str]:
    """The step for a wanted file: placed, replaced, kept, or left since a person edited it."""
    if there is None:
        return "place", file.origin
    if there == file.sha256:
        return "keep", "unchanged"
    if owned is None and not file.edited:
        raise StateError(
            "file-in-the-way",
            f"{path} is in the way; Rhizon did not place it",
            hint="Move it elsewhere, or provision into another folder.",
        )
    if file.edited:
        return "keep", "may change in use"
    if owned is not None and there != owned.sha256:
        return "keep", "edited by hand"
    return "replace", file.origin


def _edited(path: str, what: str) -> Finding:
    return Finding(
        code="edited-file",
        severity="warning",
        subject=path,
        what=f"edited by hand; {what}",
        remedy="Compare the two; delete your file to get the shipped one at the next provision.",
    )


def _check_names(wanted: Iterable[RelPath], world: WorldRule) -> None:
    """Raises StateError where two files would be one on some system, or one would be a world's."""
    seen: dict[str, str] = {}
    for path in wanted:
        folded = fold(path)
        if folded.partition("/")[0].startswith(".rhizon"):
            raise StateError("reserved-path", f"{path} is Rhizon's own", hint="Report it to the pack's author.")
        if world.covers(path, fold):
            raise StateError(
                "overlay-in-world",
                f"{path} would be written into a world",
                hint="Report it to the pack's author.",
            )
        twin = seen.setdefault(folded, path)
        if twin != path:
            raise StateError(
                "names-clash",
                f"{twin} and {path} are the same file on some systems",
                hint="Remove one of the two, or report it to the pack's author.",
            )

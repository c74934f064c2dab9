"""What a transaction will do to an instance folder, as data. An adapter carries it out and decides nothing."""

from collections.abc import Mapping
from typing import Literal

import msgspec

from rhizon.core.errors import StateError
from rhizon.core.finding import Finding
from rhizon.core.model.instance import Inventory, OwnedFile
from rhizon.core.names import RelPath, fold

__all__ = ["Action", "Plan", "Step", "WantedFile", "make_plan"]

Action = Literal["place", "replace", "remove", "keep"]


class WantedFile(msgspec.Struct, frozen=True, kw_only=True):
    """A file that shall be there. Its bytes lie in the store under ``sha256``.

    ``edited`` files may change in use (by the server or a person): they are placed once and never replaced.
    ``linked`` files are written by nobody: only those may be links into the store.
    """

    sha256: str
    size: int
    origin: str
    executable: bool = False
    edited: bool = False
    linked: bool = False


class Step(msgspec.Struct, frozen=True, kw_only=True):
    """One change of one file and the reason for it; ``wanted`` is None only for ``remove``."""

    action: Action
    path: RelPath
    reason: str
    wanted: WantedFile | None


class Plan(msgspec.Struct, frozen=True, kw_only=True):
    """Steps in path order, the inventory that will then be true, and what to know."""

    steps: tuple[Step, ...]
    inventory: Inventory
    findings: tuple[Finding, ...]

    def count(self, action: Action) -> int:
        """How many steps do this."""
        return sum(step.action == action for step in self.steps)

    @property
    def changes(self) -> tuple[Step, ...]:
        """The steps that touch the folder."""
        return tuple(step for step in self.steps if step.action != "keep")


def make_plan(
    wanted: Mapping[RelPath, WantedFile], present: Mapping[RelPath, str], before: Inventory | None, world: RelPath
) -> Plan:
    """The plan that turns ``present`` (path to SHA-256 of every file that is wanted or owned) into ``wanted``.

    A file that a person put there or changed is never overwritten or removed: what stands in the way and is
    not ours raises :class:`StateError`, an edit of one of ours is kept and becomes a finding. Nothing below
    the ``world`` folder may be wanted.
    """
    _check_names(wanted, world)
    owned = before.files if before else {}
    steps: list[Step] = []
    files: dict[str, OwnedFile] = {}
    findings: list[Finding] = []
    for path in sorted(wanted):
        file = wanted[path]
        action, reason = _toward(path, file, present.get(path), owned.get(path))
        steps.append(Step(action=action, path=path, reason=reason, wanted=file))
        kept_edit = action == "keep" and present.get(path) != file.sha256
        if kept_edit and not file.edited:
            findings.append(_edited(path, "the new one was not put in its place"))
        files[path] = OwnedFile(sha256=file.sha256, size=file.size, origin=file.origin, edited=file.edited)
    for path in map(RelPath, sorted(set(owned) - set(wanted))):
        if path not in present:
            continue
        if owned[path].edited:
            files[path] = owned[path]
        elif present[path] == owned[path].sha256:
            steps.append(Step(action="remove", path=path, reason="no longer part of the server", wanted=None))
        else:
            findings.append(_edited(path, "it is no longer part of the server and was left there"))
    steps.sort(key=lambda step: step.path)
    inventory = Inventory(format="rhizon-inventory/1", files=dict(sorted(files.items())))
    return Plan(steps=tuple(steps), inventory=inventory, findings=tuple(findings))


def _toward(path: RelPath, file: WantedFile, there: str | None, owned: OwnedFile | None) -> tuple[Action, str]:
    if there is None:
        return "place", file.origin
    if there == file.sha256:
        return "keep", "is so already"
    if owned is None and not file.edited:
        raise StateError(
            "file-in-the-way",
            f"{path} is in the way: it is not a file that Rhizon put there",
            hint="Move it elsewhere, or provision into another folder.",
        )
    if file.edited:
        return "keep", "may change in use"
    if owned is not None and there != owned.sha256:
        return "keep", "was edited by hand"
    return "replace", file.origin


def _edited(path: str, what: str) -> Finding:
    return Finding(
        code="edited-file",
        severity="warning",
        subject=path,
        what=f"it was edited by hand; {what}",
        remedy="Compare it yourself; delete it to get the shipped one at the next provision.",
    )


def _check_names(wanted: Mapping[RelPath, WantedFile], world: RelPath) -> None:
    folded: dict[str, str] = {}
    for path in wanted:
        if path == ".rhizon" or path.startswith(".rhizon/"):
            raise StateError("reserved-path", f"{path} is Rhizon's own", hint="Tell the pack's author.")
        if fold(path) == fold(world) or fold(path).startswith(fold(world) + "/"):
            raise StateError(
                "world-is-sacred", f"{path} would be written into the worlds' folder", hint="Tell the pack's author."
            )
        twin = folded.setdefault(fold(path), path)
        if twin != path:
            raise StateError(
                "names-clash",
                f"{twin} and {path} are the same file on some systems",
                hint="One of the two has to go; tell the pack's author.",
            )

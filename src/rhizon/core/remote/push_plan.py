"""What a push sends, leaves and removes: what belongs there, what was sent before, and what lies there now."""

from collections.abc import Mapping
from typing import Literal

import msgspec

from rhizon.core.finding import Finding
from rhizon.core.model.remote import Dictates, PushedFile
from rhizon.core.names import RelPath

__all__ = ["HereFile", "PushPlan", "PushStep", "ThereFile", "plan_push", "was_changed"]

SPARE_SECONDS = 2  # file systems and protocols round times
Action = Literal["send", "merge", "keep", "keep theirs", "remove", "leave"]


class HereFile(msgspec.Struct, frozen=True, kw_only=True):
    """A file that belongs there. ``edited``: people and the server itself write it, too."""

    sha256: str
    size: int
    edited: bool = False
    executable: bool = False


class ThereFile(msgspec.Struct, frozen=True, kw_only=True):
    """A file that lies there: size in bytes, and its time in seconds since 1970."""

    size: int
    mtime: int


class PushStep(msgspec.Struct, frozen=True, kw_only=True):
    """What is done to one file, and why."""

    action: Action
    path: RelPath
    reason: str


class PushPlan(msgspec.Struct, frozen=True, kw_only=True):
    """All of it, in order; ``size`` is what is sent, in bytes. With findings of severity error it cannot be done."""

    steps: tuple[PushStep, ...]
    size: int
    findings: tuple[Finding, ...]

    def of(self, action: Action) -> tuple[PushStep, ...]:
        """The steps of a kind."""
        return tuple(one for one in self.steps if one.action == action)


def plan_push(
    here: Mapping[RelPath, HereFile],
    sent: Mapping[RelPath, PushedFile],
    there: Mapping[str, ThereFile],
    dictates: Dictates,
    *,
    settings: Literal["merge", "mine", "theirs"] = "merge",
    delete: bool = True,
    capitals: bool = True,
) -> PushPlan:
    """Differences only. What a person or the server changed there stays: an edited file is merged where it changed on
    both sides, or is as ``settings`` says. What was sent once and belongs there no more is removed, unless it was
    changed there or ``delete`` is False. Without ``capitals`` two names that differ by them alone are one there."""
    steps: list[PushStep] = []
    for path in sorted(here):
        mine, was, now = here[path], sent.get(path), there.get(path)
        read_only = path in dictates.read_only
        if now is None:
            reason = "new" if was is None else "lost there"
            steps.append(PushStep(action="send", path=path, reason=reason))
        elif read_only:
            steps.append(PushStep(action="leave", path=path, reason="read-only there"))
        elif was is None:
            same = now.size == mine.size and not mine.edited
            reason = "its origin is not known" if same else "it is another file"
            action: Action = "send" if not mine.edited or settings != "theirs" else "keep theirs"
            steps.append(PushStep(action=action, path=path, reason=reason))
        else:
            steps.append(_known(path, mine, was, changed=was_changed(was, now), settings=settings))
    for path in sorted(set(sent) - set(here)):
        now = there.get(path)
        if now is None:
            continue
        if was_changed(sent[path], now):
            steps.append(PushStep(action="leave", path=path, reason="changed there since it was sent"))
        else:
            action = "remove" if delete else "leave"
            steps.append(PushStep(action=action, path=path, reason="belongs there no more"))
    sends = [here[one.path] for one in steps if one.action in ("send", "merge")]
    findings = [*_refused(here, steps, dictates), *(() if capitals else _alike(here))]
    return PushPlan(steps=tuple(steps), size=sum(one.size for one in sends), findings=tuple(findings))


def was_changed(was: PushedFile, now: ThereFile) -> bool:
    """Whether a file there is no longer what was sent: its size or time differs. A time of 0 is not known."""
    known = was.mtime and now.mtime
    return now.size != was.size or bool(known and abs(now.mtime - was.mtime) > SPARE_SECONDS)


def _known(
    path: RelPath, mine: HereFile, was: PushedFile, *, changed: bool, settings: Literal["merge", "mine", "theirs"]
) -> PushStep:
    """A file that was sent before."""
    new = mine.sha256 != (was.here or was.sha256)
    if not changed:
        if new:
            return PushStep(action="send", path=path, reason="changed here")
        return PushStep(action="keep", path=path, reason="as it was sent")
    if not mine.edited:
        return PushStep(action="send", path=path, reason="changed there")
    if settings == "mine":
        return PushStep(action="send", path=path, reason="changed there; yours is wanted")
    if settings == "theirs" or not new:
        return PushStep(action="keep theirs", path=path, reason="changed there")
    return PushStep(action="merge", path=path, reason="changed on both sides")


def _refused(here: Mapping[RelPath, HereFile], steps: list[PushStep], dictates: Dictates) -> list[Finding]:
    """What the host does not take."""
    found = []
    most = dictates.largest_mib << 20 if dictates.largest_mib is not None else None
    for step in steps:
        if step.action not in ("send", "merge"):
            continue
        size = here[step.path].size
        if any(step.path.lower().endswith(ending.lower()) for ending in dictates.forbidden):
            what = f"the host refuses names that end with {step.path[step.path.rindex('.') :]}"
            found.append(_error("push-forbidden", step.path, what, "Leave that content out, or ask the host."))
        if most is not None and size > most:
            what = f"it has {size >> 20} MiB; the host takes files of {dictates.largest_mib} MiB at most"
            found.append(_error("push-too-large", step.path, what, "Leave that content out, or ask the host."))
        if step.path in dictates.read_only:
            found.append(_error("push-read-only", step.path, "it is read-only there, and missing", "Ask the host."))
    whole = sum(one.size for one in here.values())
    if dictates.quota_mib is not None and whole > dictates.quota_mib << 20:
        what = f"the server's files take {whole >> 20} MiB; the host gives {dictates.quota_mib} MiB"
        found.append(_error("push-quota", "quota", what, "Use fewer pieces of content, or a larger plan."))
    return found


def _alike(here: Mapping[RelPath, HereFile]) -> list[Finding]:
    """Names that are one where capitals do not count."""
    first: dict[str, RelPath] = {}
    found = []
    for path in sorted(here):
        other = first.setdefault(path.lower(), path)
        if other != path:
            what = f"{other} is the same name there, where capitals do not count"
            found.append(_error("push-alike", path, what, "Rename one of the two."))
    return found


def _error(code: str, subject: str, what: str, remedy: str) -> Finding:
    return Finding(code=code, severity="error", subject=subject, what=what, remedy=remedy)

"""The answer of the last solve, kept beside the lock, so that an update with nothing new need not solve again."""

import contextlib
import hashlib

import msgspec

from rhizon.adapters.instances import LOCK, InstanceFolder
from rhizon.app.choose.resolve import Remembered
from rhizon.core.errors import RhizonError
from rhizon.core.finding import Finding
from rhizon.core.solve import Solution

__all__ = ["remember", "remembered"]

ANSWER = "answer.json"


class _Answer(msgspec.Struct, frozen=True, kw_only=True):
    """The question's hash, the hash of the lock that answers it, and what the solver found beside it."""

    question: str
    lock_sha256: str
    findings: tuple[Finding, ...]


def _lock_hash(home: InstanceFolder) -> str:
    return hashlib.sha256((home.own / LOCK).read_bytes()).hexdigest()


def remembered(home: InstanceFolder) -> Remembered | None:
    """The last answer, where it is still valid beside its lock. It is a cache: whatever is wrong with it, it does not
    exist."""
    with contextlib.suppress(OSError, msgspec.MsgspecError, RhizonError):
        answer = msgspec.json.decode((home.own / ANSWER).read_bytes(), type=_Answer)
        if answer.lock_sha256 == _lock_hash(home):
            return Remembered(question=answer.question, solution=Solution(lock=home.lock(), findings=answer.findings))
    return None


def remember(home: InstanceFolder, solved: Remembered) -> None:
    """Keeps an answer whose lock was just written; an error only costs solving again."""
    with contextlib.suppress(OSError, RhizonError):
        answer = _Answer(
            question=solved.question, lock_sha256=_lock_hash(home), findings=tuple(solved.solution.findings)
        )
        data = msgspec.json.encode(answer)
        path = home.own / ANSWER
        if solved.question and (not path.is_file() or path.read_bytes() != data):
            home.write_own(ANSWER, data)

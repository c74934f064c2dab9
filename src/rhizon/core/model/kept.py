"""``.rhizon/kept/NNNN.json``: what an instance was before a change, so that it can be so again."""

from typing import Annotated, Literal

import msgspec

from rhizon.core.model.base import Line, Sha256, Size, Strict
from rhizon.core.model.instance import Instance, Inventory
from rhizon.core.model.lock import Lock
from rhizon.core.names import UnsafeNameError, safe_path

__all__ = ["KeptFile", "KeptState"]


class KeptFile(Strict, frozen=True, kw_only=True):
    """A file as it was. ``settings`` are files that the server and people write; the rest Rhizon alone puts there."""

    sha256: Sha256
    size: Size
    executable: bool = False
    private: bool = False
    settings: bool = False


class KeptState(Strict, frozen=True, kw_only=True):
    """A whole state but for the world. ``kept_at`` (UTC) and ``before`` say when and before which change it was kept,
    ``backup`` is the time of the world's backup that was made with it."""

    format: Literal["rhizon-kept/1"]
    number: Annotated[int, msgspec.Meta(ge=1, le=999_999)]
    kept_at: Line
    before: Line
    backup: Line | None = None
    lock: Lock
    inventory: Inventory
    instance: Instance
    files: dict[str, KeptFile]

    def __post_init__(self) -> None:
        for path in self.files:
            try:
                safe_path(path)
            except UnsafeNameError as why:
                raise ValueError(f"files: {path!r}: {why}") from None

"""The state of a server for pages that players read: a small file in each page's folder."""

import contextlib
import json
import os
import time
from collections.abc import Iterable
from pathlib import Path

__all__ = ["STATUS_FILE", "Pages", "status_text"]

STATUS_FILE = "status.json"
AGAIN_SECONDS = 30.0  # a file that is older than three times this says nothing of a server that was up


def status_text(state: str) -> bytes:
    """What is in the file: the state, and when it was written, in seconds since 1970."""
    return json.dumps({"format": "rhizon-status/1", "state": state, "written": round(time.time())}).encode() + b"\n"


class Pages:
    """Folders with a page. A folder that cannot be written to is left alone: no page is worth a server."""

    def __init__(self, folders: Iterable[str]) -> None:
        self._folders = [Path(one) for one in folders]
        self._told = ""
        self._next = 0.0

    def add(self, folders: Iterable[str]) -> None:
        """These instead, from now on."""
        self._folders = [Path(one) for one in folders]
        self._next = 0.0

    def tell(self, state: str) -> None:
        """Writes the state where it is new, and again where that was a while ago."""
        if not self._folders or (state == self._told and time.monotonic() < self._next):
            return
        self._told, self._next = state, time.monotonic() + AGAIN_SECONDS
        for folder in self._folders:
            coming = folder / f".{STATUS_FILE}-{os.getpid()}"
            with contextlib.suppress(OSError):
                coming.write_bytes(status_text(state))
                coming.chmod(0o644)
                coming.replace(folder / STATUS_FILE)

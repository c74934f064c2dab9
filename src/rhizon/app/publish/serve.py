"""Serve a catalog until somebody asks for an end."""

import time
from collections.abc import Callable
from pathlib import Path

from rhizon.adapters.serve import serving
from rhizon.core.errors import InputError

__all__ = ["serve_until"]

TICK_SECONDS = 0.1


def serve_until(
    folder: Path,
    address: str,
    port: int,
    stop_asked: Callable[[], bool],
    ready: Callable[[str], None],
    told: Callable[[str], None],
) -> None:
    """``ready`` gets the address once it answers, ``told`` a line for each request."""
    if not (folder / "catalog.json").is_file():
        raise InputError(
            "no-catalog", f"{folder} is no catalog: it has no catalog.json", hint=f"Run: rhizon catalog build {folder}"
        )
    with serving(folder, address, port, told) as server:
        ready(server.url)
        while not stop_asked():
            time.sleep(TICK_SECONDS)

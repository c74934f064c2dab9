"""Serve a catalog or a page until somebody asks for an end."""

import time
from collections.abc import Callable
from pathlib import Path

import msgspec

from rhizon.adapters.serve import serving
from rhizon.core.errors import InputError
from rhizon.core.words import command_line

__all__ = ["Serving", "serve_folder", "serve_until"]

TICK_SECONDS = 0.1


class Serving(msgspec.Struct, frozen=True, kw_only=True):
    """A catalog that is being served: its address."""

    url: str


def serve_until(
    folder: Path,
    address: str,
    port: int,
    stop_asked: Callable[[], bool],
    ready: Callable[[str], None],
    told: Callable[[str], None],
) -> None:
    """``ready`` gets the address once it answers, ``told`` a line for each request. Raises InputError where the folder
    is not a catalog."""
    if not (folder / "catalog.json").is_file():
        raise InputError(
            "no-catalog",
            f"{folder} is not a catalog: it has no catalog.json",
            hint=f"Make it one: {command_line('rhizon', 'catalog', 'build', folder)}",
        )
    serve_folder(folder, address, port, stop_asked, ready, told)


def serve_folder(
    folder: Path,
    address: str,
    port: int,
    stop_asked: Callable[[], bool],
    ready: Callable[[str], None],
    told: Callable[[str], None] = lambda _line: None,
) -> None:
    """The same for any folder, such as that of a page."""
    with serving(folder, address, port, told) as server:
        ready(server.url)
        while not stop_asked():
            time.sleep(TICK_SECONDS)

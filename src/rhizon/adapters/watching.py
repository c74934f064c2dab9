"""Waiting for a change in a folder: by what the system tells (watchfiles), or by looking again and again."""

import time
from collections.abc import Iterator
from pathlib import Path

__all__ = ["changes_in"]

LOOK_SECONDS = 0.3


def changes_in(folder: Path) -> Iterator[bool]:
    """Yields at least every 0.3 seconds, for ever: True where something in the folder may have changed since the last
    time. Nothing tells of a folder that does not exist yet, nor without the extra ``watch``: then it is always True."""
    try:
        from watchfiles import watch
    except ImportError:
        yield from _looks()
        return
    while True:
        while not folder.is_dir():
            yield True
            time.sleep(LOOK_SECONDS)
        try:
            for found in watch(
                folder,
                watch_filter=None,
                debounce=200,
                step=50,
                rust_timeout=int(LOOK_SECONDS * 1000),
                yield_on_timeout=True,
                recursive=False,
                raise_interrupt=False,
            ):
                yield bool(found)
                if not folder.is_dir():  # made anew by a clean build: the watch of the old one hears nothing
                    break
        except OSError:  # no more watches on this machine, or a file system that has none
            yield from _looks()


def _looks() -> Iterator[bool]:
    while True:
        yield True
        time.sleep(LOOK_SECONDS)

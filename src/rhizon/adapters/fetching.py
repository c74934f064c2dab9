"""Getting many artefacts into the store, several at once."""

from collections.abc import Callable, Iterable
from concurrent.futures import FIRST_EXCEPTION, ThreadPoolExecutor, wait
from threading import Event, Lock

from rhizon.adapters.catalogs import Catalogs
from rhizon.adapters.store import Store
from rhizon.core.errors import CancelledError
from rhizon.core.model.lock import LockedFile

__all__ = ["CONNECTIONS", "fetch_all", "missing_from"]

CONNECTIONS = 8


def missing_from(store: Store, files: Iterable[LockedFile]) -> list[LockedFile]:
    """The files that are not in the store, each hash once."""
    wanted = {file.sha256: file for file in files}
    return [file for file in wanted.values() if not store.has(file.sha256, file.size)]


def fetch_all(
    catalogs: Catalogs, files: Iterable[LockedFile], store: Store, progress: Callable[[int, int], None]
) -> int:
    """Fetches what the store lacks and verifies it; answers how many files came.

    ``progress`` gets bytes so far and in all. The first error ends the others and is raised; files that were
    complete by then stay in the store.
    """
    missing = missing_from(store, files)
    total = sum(file.size for file in missing)
    stop = Event()
    guard = Lock()
    so_far = 0

    def came(size: int) -> None:
        nonlocal so_far
        if stop.is_set():
            raise CancelledError("fetch-ended", "fetching was ended", hint="Run the same command again.")
        with guard:
            so_far += size
            progress(so_far, total)

    def one(file: LockedFile) -> None:
        with store.incoming() as into:
            catalogs.fetch(file, into, came)
            store.keep(into, file.sha256)

    pool = ThreadPoolExecutor(max_workers=CONNECTIONS)
    try:
        futures = [pool.submit(one, file) for file in missing]
        done, _ = wait(futures, return_when=FIRST_EXCEPTION)
        for future in done:
            future.result()
    finally:
        stop.set()
        pool.shutdown(cancel_futures=True)
    return len(missing)

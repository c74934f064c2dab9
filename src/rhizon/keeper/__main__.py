"""``python -m rhizon.keeper FOLDER [--adopt] [--background]``: keeps the server in a folder until it has ended."""

import fcntl
import os
import sys
import time
from pathlib import Path

from rhizon.keeper.job import Job
from rhizon.keeper.loop import Keeper
from rhizon.keeper.places import LIFE, LOCK, OWN, read_json

ALREADY = 3  # exit code: another keeper has this server
POLL_SECONDS = 0.02


def main() -> int:
    """The exit code: 0 the server was stopped, 1 it crashed, 2 no usable job, 3 another keeper is there. In the
    background: 0 as soon as the server was started."""
    folder = Path(sys.argv[1]).absolute()
    if "--background" in sys.argv[2:]:
        keeper = os.fork()
        if keeper:
            return _begun(folder, keeper)
        os.setsid()
    handle = os.open(folder / OWN / LOCK, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return ALREADY
    try:
        job = Job.read(folder)
    except (ValueError, TypeError) as wrong:
        sys.stderr.write(f"keeper: {wrong}\n")
        return 2
    return Keeper(folder, job).run(adopt="--adopt" in sys.argv[2:])


def _begun(folder: Path, keeper: int) -> int:
    """Waits until the keeper has written down what it did, or has ended."""
    while True:
        life = read_json(folder / OWN / LIFE)
        if life is not None and life.get("keeper", {}).get("pid") == keeper:
            return 0
        done, status = os.waitpid(keeper, os.WNOHANG)
        if done:
            return os.waitstatus_to_exitcode(status)
        time.sleep(POLL_SECONDS)


if __name__ == "__main__":
    sys.exit(main())

"""``python -m rhizon.keeper FOLDER [--adopt]``: keeps the server in a folder until it has ended."""

import fcntl
import os
import sys
from pathlib import Path

from rhizon.keeper.job import Job
from rhizon.keeper.loop import Keeper
from rhizon.keeper.places import LOCK, OWN

ALREADY = 3  # exit code: another keeper has this server


def main() -> int:
    """The exit code: 0 the server was stopped, 1 it crashed, 2 no usable job, 3 another keeper is there."""
    folder = Path(sys.argv[1]).absolute()
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


if __name__ == "__main__":
    sys.exit(main())

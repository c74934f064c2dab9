"""``python -m rhizon.cli.scheduled WHAT FOLDER``: what a timer of the machine starts. Not a command for people."""

import sys
from pathlib import Path

from rhizon.app.host import this_host
from rhizon.app.run.schedule import run_task
from rhizon.core.errors import RhizonError

__all__ = ["main"]


def main() -> int:
    """The exit code of the task."""
    try:
        done = run_task(this_host(), Path(sys.argv[2]), sys.argv[1])
    except RhizonError as wrong:
        sys.stderr.write(f"{wrong.message}\n")
        return 1
    sys.stdout.write(f"{done.said}\n")
    return done.exit_code


if __name__ == "__main__":
    sys.exit(main())

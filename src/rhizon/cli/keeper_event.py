"""``python -m rhizon.cli.keeper_event EVENT FOLDER``: what a keeper leaves to Rhizon. Not a command for people."""

import sys
from pathlib import Path

from rhizon.app.host import this_host
from rhizon.app.reach.opened import renew_ports
from rhizon.app.run.crashes import after_crash, after_ready
from rhizon.core.errors import RhizonError

__all__ = ["main"]


def main() -> int:
    """The exit code: 0 where it could be done."""
    event, folder = sys.argv[1], Path(sys.argv[2])
    try:
        if event == "renew":
            return 0 if renew_ports(this_host(), folder) else 1
        if event == "crashed":
            after_crash(this_host(), folder)
        else:
            after_ready(this_host(), folder)
    except RhizonError as wrong:
        sys.stderr.write(f"{event}: {wrong.message}\n")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())

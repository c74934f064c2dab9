"""Where the ``rhizon`` program begins: until everything is imported, Ctrl-C simply ends it, without a traceback."""

import signal

signal.signal(signal.SIGINT, signal.SIG_DFL)

from rhizon.cli.main import main  # noqa: E402 - the line above must come before what takes time

__all__ = ["main"]

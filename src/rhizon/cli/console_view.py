"""The console of a server in a terminal: its lines above, what is typed below."""

import contextlib
import os
import sys
import threading
from typing import TYPE_CHECKING

from rhizon.cli.output import say
from rhizon.core.errors import StateError

if TYPE_CHECKING:
    from rhizon.app.run.console import Attached
    from rhizon.cli.command import Call
    from rhizon.cli.servers import Server

__all__ = ["ConsoleView"]

BATCH = 200  # lines that are printed at once
LAST_LINES = 20  # of the log, shown at first


class ConsoleView:
    """One attached terminal, or a pipe: then lines are read and written plainly."""

    def __init__(self, call: "Call", server: "Server") -> None:
        self._call = call
        self._server = server

    def show(self, *, read_only: bool) -> None:
        """Until the person leaves (Ctrl-D, Ctrl-C) or the server ends. Raises StateError where it does not run."""
        from rhizon.app.run.console import attach
        from rhizon.app.run.logs import LogWishes, read_log

        with attach(self._call.host, self._server.folder, read_only=read_only) as attached:
            for line in read_log(self._call.host, self._server.folder, LogWishes(lines=LAST_LINES)).lines:
                sys.stdout.write(f"{line.text}\n")
            sys.stdout.flush()
            if read_only or not sys.stdin.isatty():
                self._plainly(attached, read_only=read_only)
            else:
                self._with_a_line(attached)
            if attached.process.over:
                sys.stdout.write("the server has ended\n")

    def _plainly(self, attached: "Attached", *, read_only: bool) -> None:
        """Prints lines; types those of standard input, and leaves a moment after its end."""
        from rhizon.cli.terminal import Console, stop_signals

        typed = Console() if not read_only else None
        quiet = 0
        with stop_signals() as asked:
            while not asked() and not attached.process.over:
                line = attached.line(0.2)
                if line is not None:
                    sys.stdout.write(f"{line}\n")
                    sys.stdout.flush()
                    quiet = 0
                    continue
                if typed is None:
                    continue
                wanted = typed.line()
                if wanted is not None:
                    attached.send(wanted)
                    quiet = 0
                elif typed.over:
                    quiet += 1
                    if quiet > 3:
                        return

    def _with_a_line(self, attached: "Attached") -> None:
        """A line at the bottom that stays whole while the server prints above it."""
        from prompt_toolkit import PromptSession
        from prompt_toolkit.history import FileHistory
        from prompt_toolkit.patch_stdout import patch_stdout

        from rhizon.cli.console_words import ConsoleWords, completer

        game = self._call.host.game_of(attached.home.instance())
        words = ConsoleWords(game.console, attached.send)
        history = attached.home.own / "console-history"
        with contextlib.suppress(OSError):
            os.close(os.open(history, os.O_CREAT | os.O_WRONLY, 0o600))
            history.chmod(0o600)
        session: PromptSession[str] = PromptSession(
            history=FileHistory(str(history)),
            completer=completer(words),
            complete_while_typing=False,
        )
        done = threading.Event()

        def follow() -> None:
            while not done.is_set():
                batch: list[str] = []
                line = attached.line(0.2)
                while line is not None and len(batch) < BATCH:
                    batch.append(line)
                    line = attached.line(0)
                if line is not None:
                    batch.append(line)
                if batch:
                    words.hear(batch)
                    sys.stdout.write("".join(f"{one}\n" for one in batch))
                if attached.process.over:
                    with contextlib.suppress(Exception):  # the prompt may be gone already
                        session.app.exit(exception=EOFError)
                    return

        with patch_stdout(raw=True):
            follower = threading.Thread(target=follow, daemon=True)
            follower.start()
            try:
                while True:
                    line = session.prompt(f"{attached.home.instance().name}> ")
                    if line.strip():
                        attached.send(line)
            except (EOFError, KeyboardInterrupt):
                pass
            except StateError as gone:
                sys.stdout.write(f"{gone.message}\n")
            finally:
                done.set()
                follower.join(1)
        if not attached.process.over:
            from rhizon.cli.output import console

            say(console(), f"detached; the server keeps running (stop it: rhizon stop {self._server.label})")

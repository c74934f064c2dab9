"""The first start: bare or with content, so that the server writes its own files; then settings are put into them."""

from rhizon import interrupts
from rhizon.adapters.instances import InstanceFolder, RunMark
from rhizon.adapters.processes import alive
from rhizon.app.instance.native_files import started_in, started_with, write_edits
from rhizon.app.instance.worlds import require_no_interrupt
from rhizon.app.reporter import Reporter
from rhizon.app.run.command import StartCommand, ways_of
from rhizon.app.run.server import RunningServer
from rhizon.core.errors import CancelledError, NotReadyError
from rhizon.core.finding import Finding
from rhizon.core.launch import Launch, start_command, start_environment
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.settings.apply import NativeEdits

__all__ = ["first_start"]


def first_start(
    home: InstanceFolder,
    game: GameDefinition,
    instance: Instance,
    launch: Launch,
    edits: NativeEdits,
    secret_files: frozenset[str],
    reporter: Reporter,
) -> list[Finding]:
    """Starts the server once and stops it; then its files hold the settings and ports.

    Where the server completes a settings file that is there, it is written before the start too: the ports are then
    right from the first second and the world is raised from the right seed.
    Raises NotReadyError.
    """
    early = {file: one for file, one in edits.items() if game.first_start.before(file, one[0])}
    write_edits(home, early, secret_files)
    how = "without content" if launch.loader is None else "with content"
    reporter.step(f"first start {how}: the server writes its own files")
    words = start_command(game, launch._replace(arguments=started_with(home, game)))
    environment = {**start_environment(game, launch.runtime, launch.heap_mib, launch.loader), **started_in(home, game)}
    command = StartCommand(words, environment, *ways_of(home, game, instance, first=True))
    with RunningServer.start(command, home.folder, game, reporter) as server:
        mark = RunMark(server.process.pid, server.process.since)
        home.mark_running(mark)
        try:
            seconds = _until_ready(server, home)
            mark = RunMark(server.process.pid, server.process.since)  # its launcher may have left another process
            home.mark_running(mark)
            reporter.step("stopping the server")
            code = server.stop()
        finally:
            server.process.close()
            if not alive(server.process.pid, server.process.since):
                home.mark_ended(mark)
    if code != 0:
        raise NotReadyError(
            "first-stop-failed",
            f"the server became ready, then ended with exit code {code} when it was asked to stop",
            details=server.last_lines[-3:],
            hint="Its log is .rhizon/last-run.log in the instance.",
        )
    write_edits(home, edits, secret_files)
    reporter.done(f"first start done in {seconds:.1f} s; settings are in the server's own files")
    return [
        Finding(
            code="file-not-created",
            severity="warning",
            subject=path,
            what="the first start did not create it, although the game definition says so",
            remedy="Check whether the definition is for another version of the game.",
        )
        for path in game.first_start.creates
        if not (home.folder / path).exists()
    ]


def _until_ready(server: RunningServer, home: InstanceFolder) -> float:
    """Seconds until it was ready. Raises NotReadyError, also where it was interrupted: the server is stopped then."""
    try:
        return server.until_ready(stop_asked=interrupts.asked)
    except CancelledError:
        require_no_interrupt(home)
        raise

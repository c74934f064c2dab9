"""``rhizon dev``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import console, say, verdict
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rhizon.app.run.dev import Build

__all__ = ["dev"]


@command(
    "dev",
    examples=(
        ("rhizon dev marsh 'build/libs/*.jar'", "each new build: checked, placed, started, judged"),
        ("rhizon dev marsh 'build/libs/*.jar' --once --junit result.xml", "the newest build once, for CI"),
    ),
)
@click.argument("server", type=SERVER)
@click.argument("pattern")
@click.option("--item", metavar="ID", help="Only builds of this item.")
@click.option("--once", is_flag=True, help="Try the newest build, then stop the server and leave.")
@click.option("--fresh-world", is_flag=True, help="A new world for every start; the one that is there is put aside.")
@click.option(
    "--wait", type=click.FloatRange(1, 86400), metavar="SECONDS", help="Longest time until ready, in seconds."
)
@click.option(
    "--junit", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="Write the results as JUnit XML."
)
def dev(
    call: Call,
    server: Server,
    pattern: str,
    item: str | None,
    once: bool,
    fresh_world: bool,
    wait: float | None,
    junit: Path | None,
) -> Answer:
    """Try each new build of a mod on a server, for its developer.

    A build that fails the checks, or with which the server does not become ready, is removed again, and the last good
    one restored. Exit code 6 when the last build did not work. Ctrl-C stops the server and ends it.
    """
    from rhizon.app.run.dev import Developing, DevWishes
    from rhizon.app.run.stop import stop
    from rhizon.cli.terminal import stop_signals
    from rhizon.core.errors import InputError

    wishes = DevWishes(pattern=pattern, item=item, wait=wait, fresh_world=fresh_world)
    with stop_signals() as asked:
        session = Developing(call.host, server.folder, call.reporter, asked, wishes)
        try:
            for changed in session.changes():
                if asked():
                    break
                if not changed:
                    continue
                try:
                    build = session.try_newest()
                except InputError as wrong:
                    if once:
                        raise
                    build = None
                    call.reporter.warning(wrong.message)
                if build is not None and not call.out.json and not call.out.quiet:
                    _show(build)
                if once:
                    break
        finally:
            stop(call.host, server.folder, call.reporter)
            call.close()
    done = session.result
    if junit is not None:
        from rhizon.app.run.dev import write_junit

        write_junit(junit, done)
    if not done.builds:
        raise InputError("no-archives", f"no build matches {pattern}", hint="Quote the pattern, so that it gets here.")
    last = done.builds[-1]
    how = "works" if last.result == "ready" else f"was {last.result}" if last.result == "refused" else "failed"
    text = f"{done.name}: {counted(len(done.builds), 'build')}; the last one {how}"
    return Answer(done, text, exit_code=0 if last.result == "ready" else 6)


def _show(build: "Build") -> None:
    """One build as it went."""
    to = console()
    how = f"ready after {build.ready_seconds:.1f} s" if build.ready_seconds is not None else build.result
    text = f"{build.item} {build.version}: {how} (Rhizon's own part: {build.own_seconds:.1f} s)"
    verdict(to, text, good=build.result == "ready")
    if build.why:
        say(to, build.why)
    for line in build.log:
        to.print(f"  {line}", markup=False, highlight=False, soft_wrap=True)

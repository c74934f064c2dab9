"""``rhizon isolate``."""

import re
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import Step, say, show_pairs
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted

if TYPE_CHECKING:
    from collections.abc import Iterator

    from rich.console import Console

    from rhizon.app.run.isolate import CulpritSet, IsolateResult

__all__ = ["isolate"]

_FRAME = re.compile(r"\s+at |\s*\.\.\. \d+ more")


@command(
    "isolate",
    examples=(
        ("rhizon isolate marsh", "which content keeps the server from starting?"),
        ("rhizon isolate marsh --symptom crash --watch 120", "which content makes it crash in its first two minutes?"),
        ("rhizon isolate marsh --symptom 'tick took'", "which content makes the server print this?"),
    ),
)
@click.argument("server", type=SERVER)
@click.option(
    "--wait",
    type=click.FloatRange(1, 86400),
    metavar="SECONDS",
    help="Longest time until ready of each start, in seconds.",
)
@click.option(
    "--symptom",
    metavar="not-ready|crash|TEXT",
    help="What to look for: any failed start, a server that ends by itself, or a text of its log. By default the "
    "failure that the server has with all of its content.",
)
@click.option(
    "--watch",
    type=click.FloatRange(0, 86400),
    default=0,
    metavar="SECONDS",
    help="Watch each copy so long after it is ready, in seconds.",
)
@click.option(
    "--repeat",
    type=click.IntRange(1, 100),
    metavar="N",
    help="Start a set that does not fail up to N times, for failures that come and go.",
)
@click.option(
    "--at-once", type=click.IntRange(1, 8), metavar="N", help="Copies at the same time; by default 2 if memory allows."
)
def isolate(
    call: Call,
    server: Server,
    wait: float | None,
    symptom: str | None,
    watch: float,
    repeat: int | None,
    at_once: int | None,
) -> Answer:
    """Find the content that makes a start fail, when the log does not say it.

    Starts copies of the server with parts of its content, at other ports and an address of this machine only; the
    server's own folder is only read. They have new worlds, or copies of its world where the failure needs it. About ten
    starts for one culprit of a hundred. Exit code 1 when a culprit was found.
    """
    from rhizon.app.run.isolate import IsolateWishes, isolate_content
    from rhizon.cli.terminal import stop_signals

    wishes = IsolateWishes(
        wait=wait,
        symptom="not-ready" if symptom == "not-ready" else "crash" if symptom == "crash" else None,
        line=symptom if symptom not in (None, "not-ready", "crash") else None,
        watch=watch,
        repeat=repeat,
        at_once=at_once,
    )
    with stop_signals() as asked:
        found = isolate_content(call.host, server.folder, call.reporter, asked, wishes)
    call.close()
    starts = counted(found.starts, "start")
    if found.without_content:
        text = f"{found.name}: fails without any content too; content is not the cause ({starts})"
        check = Step(("rhizon", "check", server.label), "what else could be wrong")
        return Answer(found, text, lambda to: _body(to, found), next=(check,), exit_code=1)
    if not found.found:
        return Answer(found, f"{found.name}: starts with all of its content; nothing to isolate ({starts})", None)
    who = "; ".join(_who(one) for one in found.found)
    return Answer(
        found,
        f"{found.name}: {who} ({starts})",
        lambda to: _body(to, found),
        next=tuple(_steps(server, found)),
        exit_code=1,
    )


def _who(one: "CulpritSet") -> str:
    return f"{' and '.join(one.ids)} {'is' if len(one.ids) == 1 else 'together are'} at fault"


def _steps(server: Server, found: "IsolateResult") -> "Iterator[Step]":
    """What can be done about the first set: without it, with a release before, a word to its author."""
    one = found.found[0]
    name, version = one.ids[0], one.versions[0]
    if one.locked[0]:
        yield Step(("rhizon", "update", server.label, "--without", name), "leave it out")
        yield Step(("rhizon", "update", server.label, "--hold", f"{name}=<{version}"), "take a release before it")
    yield Step(("rhizon", "inspect", f"{found.folder}/{one.files[0]}"), "what it says and what its code shows")
    yield Step(("rhizon", "report", server.label, "-o", f"{name}.zip"), "what its author needs")


def _body(to: "Console", found: "IsolateResult") -> None:
    """The symptom, and of each set its files and how sure it is."""
    symptom = f"{found.symptom.code}: {found.symptom.line}" if found.symptom is not None else ""
    world = "with a copy of the world" if found.with_world else "with new worlds"
    how = f"{counted(found.starts, 'start')}, {found.at_once} at once, {world}" + (
        "; the failure comes and goes" if found.flaky else ""
    )
    show_pairs(to, [("symptom", symptom), ("starts", how)])
    for one in found.found:
        rest = "starts" if one.rest_works else "still fails: there is more"
        show_pairs(
            to,
            [
                (" and ".join(one.ids), ", ".join(one.files)),
                ("with it", f"failed in {one.failed_with} of {counted(one.starts_with, 'start')}"),
                ("without it", f"failed in {one.failed_without} of {counted(one.starts_without, 'start')}; {rest}"),
                ("confidence", f"{int(100 * one.confidence)} %" if one.rest_works else "see the other culprits"),
            ],
        )
        say(to, "log of a start with little else:")
        for line in [line for line in one.log if not _FRAME.match(line)][-4:]:
            say(to, f"  {line}")
        for path in (file for file, locked in zip(one.files, one.locked, strict=True) if not locked):
            say(to, f"Not in the lock, so not placed by Rhizon: remove {path} yourself.")

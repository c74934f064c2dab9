"""``rhizon schedule``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.run.schedule import Schedule, TaskLine

__all__ = ["schedule", "task_end"]


@command(
    "schedule",
    examples=(
        ("rhizon schedule marsh backup daily 04:30 --keep 7d,4w", "a backup every night"),
        ("rhizon schedule marsh restart weekly mon 05:00", "players are told ten minutes before"),
        ("rhizon schedule marsh", "what is scheduled, and how it went last"),
        ("rhizon schedule marsh --remove backup", "no more of it"),
    ),
    tables=True,
    dry_run="Show what would change and change nothing.",
)
@click.argument("server", type=SERVER)
@click.argument("what", type=click.Choice(["backup", "restart", "update"]), required=False)
@click.argument("when", nargs=-1)
@click.option("--keep", default="", metavar="RULE", help="With backup: prune old backups, as in 7d,4w,6m.")
@click.option("--remove", metavar="WHAT", help="Remove this task.")
@click.option("--user", is_flag=True, help="Use your user's manager instead of the machine's.")
def schedule(
    call: Call, server: Server, what: str | None, when: tuple[str, ...], keep: str, remove: str | None, user: bool
) -> Answer:
    """Do something regularly with a server: a backup, a restart, an update.

    WHEN is hourly, daily HH:MM or weekly DAY HH:MM. The machine's own timers carry it out: systemd's, or cron where
    there is none. Without WHAT: list what is scheduled.
    """
    from rhizon.app.run.schedule import add_task, list_tasks, remove_task
    from rhizon.core.model.instance import ScheduledTask

    if remove is not None and what is None:
        done = remove_task(call.host, server.folder, remove, call.reporter, user=user, dry_run=call.dry_run)
        text = f"{done.name}: {remove} {'would no longer be' if done.planned else 'is no longer'} scheduled"
    elif what is not None and when and remove is None:
        task = ScheduledTask(what=what, when=" ".join(when), keep=keep)  # type: ignore[arg-type]
        done = add_task(call.host, server.folder, task, call.reporter, user=user, dry_run=call.dry_run)
        by = f", by {done.by}" if done.by else ""
        text = f"{done.name}: {what} {'would be' if done.planned else 'is'} done {task.when}{by}"
    elif what is None and not when:
        done = list_tasks(call.host, server.folder)
        text = f"{done.name}: {counted(len(done.tasks), 'task')}"
    else:
        raise click.UsageError("Say what and when, as in: backup daily 04:30")
    call.close()
    return Answer(done, text, lambda to: _body(to, done, call))


def task_end(line: "TaskLine") -> str:
    """When it ended last, and whether well."""
    last = line.last
    if last is None:
        return "not done yet"
    return f"{last.when}: {'done' if last.exit_code == 0 else f'exit code {last.exit_code}'}"


def _body(to: "Console", done: "Schedule", call: Call) -> None:
    rows = [
        [
            one.task.what,
            one.task.when,
            one.task.keep,
            task_end(one) if one.last is not None else "",
            one.last.said if one.last else "",
        ]
        for one in done.tasks
    ]
    if rows:
        call.table(to, ["task", "when", "keep", "last", "it said"], rows)

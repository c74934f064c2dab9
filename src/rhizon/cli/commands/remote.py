"""``rhizon remote`` and its subcommands."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, RhizonGroup, command
from rhizon.cli.options import MIB
from rhizon.cli.output import Step, say
from rhizon.core.units import mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.remote.remotes import RemoteResult
    from rhizon.core.model.remote import Way

__all__ = ["remote"]


@click.group(cls=RhizonGroup)
def remote() -> None:
    """Rented servers that are reached by file transfer: describe one, and see that it can be used."""


@command(
    "new",
    group=remote,
    examples=(
        ("rhizon remote new lighthouse --sftp tove@games.harbour.example --folder /server", "over SFTP"),
        ("rhizon remote new share --folder /mnt/share/server --start-file run.sh", "a mounted share"),
    ),
    dry_run="Show what would be written and write nothing.",
)
@click.argument("name")
@click.option(
    "--sftp", metavar="USER@HOST[:PORT]", help="Reach it over SFTP; without, the folder is one of this machine."
)
@click.option("--ftps", metavar="USER@HOST[:PORT]", help="Reach it over FTPS.")
@click.option("--implicit", is_flag=True, help="With --ftps: TLS from the first byte (port 990).")
@click.option("--ftp", metavar="USER@HOST[:PORT]", help="Reach it over FTP, which sends the password in the clear.")
@click.option("--insecure", is_flag=True, help="With --ftp: that is accepted.")
@click.option("--rhizon", metavar="USER@HOST[:PORT]", help="Reach a machine that has Rhizon itself, over SSH.")
@click.option("--program", default="rhizon", show_default=True, metavar="PATH", help="With --rhizon: its name there.")
@click.option("--folder", required=True, metavar="PATH", help="Folder of the server there.")
@click.option(
    "--key", type=click.Path(path_type=Path, exists=True), metavar="FILE", help="Private key; else the agent's."
)
@click.option("--password", is_flag=True, help="The system's keyring has the password, under `rhizon USER@HOST`.")
@click.option(
    "--password-file", type=click.Path(path_type=Path, exists=True), metavar="FILE", help="File with the password."
)
@click.option(
    "--certificate",
    type=click.Path(path_type=Path, exists=True),
    metavar="FILE",
    help="Certificate of a host that signs its own.",
)
@click.option("--start-file", metavar="NAME", help="Name of the file that the host starts.")
@click.option("--start-command", metavar="LINE", help="Command line that the host runs instead.")
@click.option("--log", metavar="PATH", help="File there with the server's output; a * in its name is the newest.")
@click.option("--ports", metavar="N,N...", help="Ports that the host gives.")
@click.option("--runtimes", metavar="N,N...", help="Majors of the runtimes that the host has.")
@click.option("--windows", is_flag=True, help="The host runs Windows.")
@click.option("--memory", "memory_mib", type=MIB, metavar="MIB", help="Memory that the host gives.")
@click.option("--quota", "quota_mib", type=MIB, metavar="MIB", help="Disk space that the host gives.")
@click.option("-o", "--output", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="File to write.")
def new(
    call: Call,
    name: str,
    sftp: str | None,
    ftps: str | None,
    implicit: bool,
    ftp: str | None,
    insecure: bool,
    rhizon: str | None,
    program: str,
    folder: str,
    key: Path | None,
    password: bool,
    password_file: Path | None,
    certificate: Path | None,
    start_file: str | None,
    start_command: str | None,
    log: str | None,
    ports: str | None,
    runtimes: str | None,
    windows: bool,
    memory_mib: int | None,
    quota_mib: int | None,
    output: Path | None,
) -> Answer:
    """Describe a rented server. The file is kept under its name, or written to FILE; more can be said in it."""
    from rhizon.app.remote.remotes import new_remote
    from rhizon.core.model.remote import Dictates, Reach
    from rhizon.core.names import RelPath

    by, where = _way({"sftp": sftp, "ftps": ftps, "ftp": ftp, "rhizon": rhizon})
    user, _, rest = where.rpartition("@")
    host, _, port = rest.partition(":")
    if by != "folder" and (not user or not host or (port and not port.isdecimal())):
        raise click.UsageError(f"--{by} needs USER@HOST or USER@HOST:PORT.")
    try:
        reach = Reach(
            by=by,
            folder=folder,
            host=host,
            user=user,
            port=int(port) if port else None,
            key=str(key.absolute()) if key is not None else "",
            password="keyring" if password else "",
            password_file=str(password_file.absolute()) if password_file is not None else "",
            certificate=str(certificate.absolute()) if certificate is not None else "",
            implicit=implicit,
            insecure=insecure,
            program=program,
        )
        dictates = Dictates(
            start_file=RelPath(start_file) if start_file else None,
            start_command=start_command or "",
            log=log or "",
            ports=_numbers(ports, "--ports"),
            runtimes=_numbers(runtimes, "--runtimes"),
            system="windows" if windows else "linux",
            memory_mib=memory_mib,
            quota_mib=quota_mib,
        )
    except ValueError as wrong:
        raise click.UsageError(str(wrong)) from None
    done = new_remote(call.host, name, reach, dictates, output, dry_run=call.dry_run)
    return Answer(
        done,
        f"{done.name}: {done.reach}, in {done.file}",
        next=(Step(("rhizon", "remote", "probe", done.name), "connect, and find out what it can"),),
    )


def _way(ways: dict["Way", str | None]) -> "tuple[Way, str]":
    """The one way that was named, and where; without one a folder of this machine."""
    named = [(by, where) for by, where in ways.items() if where is not None]
    if len(named) > 1:
        raise click.UsageError(f"Name one way: {', '.join(f'--{by}' for by in ways)}.")
    return named[0] if named else ("folder", "")


def _numbers(text: str | None, option: str) -> tuple[int, ...]:
    """Numbers with commas between them."""
    words = [one.strip() for one in text.split(",")] if text else []
    if not all(one.isdecimal() for one in words):
        raise click.UsageError(f"{option}: {text!r} is not a list of numbers, such as 25001,25002.")
    return tuple(map(int, words))


@command(
    "check",
    group=remote,
    examples=(
        ("rhizon remote check lighthouse", "connect, and look at its folder"),
        ("rhizon remote check ./lighthouse.remote.toml", "a file that describes it"),
    ),
)
@click.argument("name", metavar="NAME|FILE")
def check(call: Call, name: str) -> Answer:
    """Check the description of a rented server, and that it can be reached. Nothing is changed there."""
    from rhizon.app.remote.probe import check_remote

    done = check_remote(call.host, name, call.reporter)
    call.close()
    steps = () if done.probed else (Step(("rhizon", "remote", "probe", name), "find out what it can"),)
    return Answer(done, f"{done.name}: can be reached", lambda to: _body(to, done), next=steps)


@command(
    "probe",
    group=remote,
    examples=(
        ("rhizon remote probe lighthouse --accept-key", "accept the key that it shows, the first time"),
        ("rhizon remote probe lighthouse", "try what it can, and write that down"),
    ),
    dry_run="Connect and list; try nothing there.",
)
@click.argument("name", metavar="NAME|FILE")
@click.option("--accept-key", is_flag=True, help="Accept the SSH key that it shows now.")
def probe(call: Call, name: str, accept_key: bool) -> Answer:
    """Try what a rented server can do, with small files that are removed again, and write it into its description.

    The first time its key is shown: compare it with what your host says, then accept it.
    """
    from rhizon.app.remote import probe as probing
    from rhizon.app.remote.remotes import find_remote

    if accept_key:
        accepted = probing.accept_key(call.host, find_remote(call.host, name)[1])
        call.reporter.done(f"accepted {accepted}")
    done = probing.probe(call.host, name, call.reporter, dry_run=call.dry_run)
    call.close()
    text = "can be reached" if done.planned else "can be used"
    return Answer(done, f"{done.name}: {text}", lambda to: _body(to, done))


def _body(to: "Console", done: "RemoteResult") -> None:
    say(to, f"reached by {done.reach}")
    if done.free_mib is not None:
        say(to, f"free space: {mib_text(done.free_mib)}")
    if done.probed is not None:
        say(to, f"a rename replaces a file: {'yes' if done.probed.rename_over else 'no'}")
        say(to, f"names differ by capitals: {'yes' if done.probed.capitals else 'no'}")
        say(to, f"a file sent by half is continued: {'yes' if done.probed.resumes else 'no'}")
        if done.probed.lists_by:
            say(to, f"folders are listed by: {done.probed.lists_by}")
        say(to, f"hashes are computed by: {done.probed.hashes_by or 'nothing there; --verify reads files back'}")
        if done.probed.ahead_seconds:
            say(to, f"its clock is {done.probed.ahead_seconds} s ahead")

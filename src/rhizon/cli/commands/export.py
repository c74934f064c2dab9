"""``rhizon export``."""

from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.completion import complete_games
from rhizon.cli.options import MIB, catalog_options
from rhizon.cli.output import Step, say
from rhizon.core.units import counted, mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.handover.export import ExportResult

__all__ = ["export"]

BACKUPS_AT = "30 4 * * *"


def _cluster(_: click.Context, __: click.Parameter, value: str) -> tuple[int, int]:
    from rhizon.core.handover.kubernetes import parse_cluster_version

    try:
        return parse_cluster_version(value)
    except ValueError as wrong:
        raise click.BadParameter(str(wrong)) from None


@command(
    "export",
    examples=(
        ("rhizon export marsh container -o image", "an image of it: Containerfile and all that goes in"),
        ("rhizon export tarnholt.list.toml compose -o marsh", "a compose file, from a list"),
        ("rhizon export marsh kubernetes -o base --backup-at '0 5 * * *'", "manifests, as a kustomize base"),
    ),
    dry_run="Show what would be written and write nothing.",
)
@click.argument("source", metavar="SERVER|SOURCE")
@click.argument("engine", type=click.Choice(["container", "compose", "kubernetes"]))
@click.option(
    "-o", "--output", "folder", required=True, type=click.Path(path_type=Path, file_okay=False), metavar="FOLDER",
    help="Folder to write; files of an earlier export in it are replaced.",
)  # fmt: skip
@catalog_options
@click.option("--name", metavar="NAME", help="Name of the server in the container; by default its own.")
@click.option(
    "--game", metavar="ID", shell_complete=complete_games, help="Game the archives of a folder are for."
)  # fmt: skip
@click.option("--image", default="", metavar="NAME", help="Name of the image; by default NAME:LOCK.")
@click.option("--memory", "memory_mib", type=MIB, metavar="MIB", help="Heap size in MiB (or 1536M, 2G).")
@click.option("--secret", "secrets", multiple=True, metavar="NAME", help="Secret setting that the engine gives.")
@click.option("--wheels", type=click.Path(path_type=Path, exists=True, file_okay=False), metavar="FOLDER",
    help="Rhizon's own packages for the image (pip wheel -w FOLDER rhizon); without, pip fetches them.",
)  # fmt: skip
@click.option(
    "--fetch", "fetching", is_flag=True, help="Fetch from the catalogs at the first start, not into the image."
)
@click.option("--cluster", default="1.27", callback=_cluster, metavar="VERSION", help="Kubernetes version; 1.27.")
@click.option("--node", metavar="NAME", help="Kubernetes: the only node that it may run on.")
@click.option(
    "--backup-at", metavar="CRON", default=BACKUPS_AT, show_default=True,
    help="Kubernetes: when to back up; empty for never.",
)  # fmt: skip
@click.option("--kubectl-image", default="kubectl", metavar="NAME", help="Kubernetes: image with kubectl, for backups.")
@click.option("--accept-licence", is_flag=True, help="Confirm that you have read and accept the game's licence.")
@click.option("--allow-installer", is_flag=True, help="Allow a loader's own installer program to run.")
def export(
    call: Call, source: str, engine: Literal["container", "compose", "kubernetes"], folder: Path, **given: Any
) -> Answer:
    """Write what an engine needs to run a server: an image (container), a compose file, Kubernetes manifests.

    The image has all files of the lock and needs no network when it runs; its base image is a build argument. The
    server's state is on volumes. Secrets are not written: the engine gives them.
    """
    from rhizon.app.handover.deploy import DeployWishes
    from rhizon.app.handover.export import ExportWishes
    from rhizon.app.handover.export import export as write

    if engine != "kubernetes" and given["node"]:
        raise click.UsageError("--node is for kubernetes.")
    fields = (
        "name",
        "game",
        "image",
        "catalogs",
        "memory_mib",
        "secrets",
        "accept_licence",
        "allow_installer",
        "fetching",
    )
    wishes = DeployWishes(source=_source(call, source), **{field: given[field] for field in fields})
    how = ExportWishes(
        engine=engine,
        folder=folder,
        wheels=given["wheels"],
        cluster=given["cluster"],
        backup_at=given["backup_at"] or None,
        exec_image=given["kubectl_image"],
        node=given["node"],
        dry_run=call.dry_run,
    )
    done = write(call.host, wishes, how, call.reporter)
    call.close()
    what = "would be written to" if done.planned else "written to"
    return Answer(
        done, f"{done.name}: {engine} {what} {done.folder}", lambda to: _body(to, done), next=_next(done)
    )  # fmt: skip


def _source(call: Call, word: str) -> Path:
    """A file or folder; else the folder of the server of that name."""
    from rhizon.app.machine.find_server import find_server

    path = Path(word)
    return path if path.exists() else find_server(call.host, word)


def _next(done: "ExportResult") -> list[Step]:
    if done.planned:
        return []
    build = Step(
        ("podman", "build", "--build-arg", "BASE=IMAGE", "--timestamp", "0", "-t", done.image, done.folder),
        "build the image; IMAGE has Python and the runtime",
    )
    if done.engine == "container":
        return [build]
    if done.engine == "compose":
        return [build, Step(("docker-compose", "-f", f"{done.folder}/compose.yaml", "up", "-d"), "start it")]
    return [Step(("kubectl", "apply", "-k", done.folder), "start it; the image is one of `rhizon export container`")]


def _body(to: "Console", done: "ExportResult") -> None:
    say(to, f"image: {done.image}" + (f", with {counted(done.archives, 'archive')}" if done.archives else ""))
    say(to, f"memory: {mib_text(done.memory_mib)} for the container, {mib_text(done.heap_mib)} of it heap")
    say(to, f"ports: {', '.join(done.ports)}")
    say(to, f"files: {', '.join(done.files)}")
    if done.secrets and done.engine == "kubernetes":
        flags = " ".join(f"--from-file={name}=FILE" for name in done.secrets)
        say(to, f"secrets: kubectl create secret generic {done.name}-secrets {flags}")
    elif done.secrets:
        say(to, f"secrets: put each into a file: {', '.join(f'secrets/{name}' for name in done.secrets)}")
    if done.licence == "not accepted":
        say(to, "licence: not accepted; the container ends until you have read it and export with --accept-licence")

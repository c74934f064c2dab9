"""Files for an engine, written into a folder: container, compose, Kubernetes."""

import shutil
from collections.abc import Mapping
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.files import make_folders, translated, write_atomic
from rhizon.app.choose.beside_lock import archives_beside, put_beside
from rhizon.app.handover.deploy import DeployWishes, deployment_of
from rhizon.app.host import Host
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError, StateError
from rhizon.core.handover.compose import compose_document
from rhizon.core.handover.container import container_files
from rhizon.core.handover.deployment import Deployment
from rhizon.core.handover.kubernetes import LARGEST_CONFIG, kubernetes_files
from rhizon.core.model.lock import Lock
from rhizon.core.yaml_text import to_yaml

__all__ = ["Engine", "ExportResult", "ExportWishes", "export"]

Engine = Literal["container", "compose", "kubernetes"]
LOCK = "server.lock.json"
MARK = ".rhizon-export"  # in a folder that an export made: another one may replace what it wrote
OWN_FOLDERS = ("config", "server.archives", "wheels")
OWN_FILES = (
    "Containerfile", "compose.yaml", LOCK, ".containerignore", "config.yaml", "service.yaml", "network.yaml",
    "server.yaml", "backup.yaml", "kustomization.yaml",
)  # fmt: skip


class ExportWishes(msgspec.Struct, frozen=True, kw_only=True):
    """What is to be written where. ``wheels`` is a folder with Rhizon's packages for the image; ``cluster`` the version
    that manifests are for; ``backup_at`` a cron schedule, None for none; ``exec_image`` an image with kubectl."""

    engine: Engine
    folder: Path
    wheels: Path | None = None
    cluster: tuple[int, int] = (1, 27)
    backup_at: str | None = None
    exec_image: str = "kubectl"
    node: str | None = None
    dry_run: bool = False


class ExportResult(msgspec.Struct, frozen=True, kw_only=True):
    """What was written: ``files`` by their path in the folder, ``archives`` as many; the image's name; the memory limit
    of the container and the heap in it; which secrets the engine has to be given; what is known of the licence."""

    engine: Engine
    name: str
    folder: str
    image: str
    files: tuple[str, ...]
    archives: int
    memory_mib: int
    heap_mib: int
    ports: tuple[str, ...]
    secrets: tuple[str, ...]
    licence: Literal["accepted", "not accepted", "none"]
    planned: bool


def export(host: Host, wishes: DeployWishes, how: ExportWishes, reporter: Reporter) -> ExportResult:
    """Writes the files of one engine. Raises StateError for a folder that holds other files, and whatever making the
    server would raise."""
    _require_free(how.folder)
    if how.wheels is not None and not any(how.wheels.glob("rhizon-*.whl")):
        raise InputError(
            "no-wheel",
            f"{how.wheels} has no wheel of Rhizon",
            hint=f"Make one there: pip wheel -w {how.wheels} rhizon",
        )
    one, lock = deployment_of(host, wishes, reporter)
    texts, archives = _texts(one, how), 0
    if how.engine != "kubernetes" and one.whole:
        archives = put_beside(host, lock, how.folder / LOCK, write=False, whole=True)
    if not how.dry_run:
        _write(host, one, lock, how, texts)
    return ExportResult(
        engine=how.engine,
        name=one.name,
        folder=str(how.folder),
        image=one.image,
        files=tuple(sorted(texts)),
        archives=archives,
        memory_mib=one.memory_mib,
        heap_mib=one.heap_mib,
        ports=tuple(f"{port.number}/{protocol}" for port in one.ports for protocol in port.protocols),
        secrets=one.secrets,
        licence="accepted" if one.accept_licence else "not accepted" if one.has_licence else "none",
        planned=how.dry_run,
    )


def _require_free(folder: Path) -> None:
    if folder.is_dir() and any(folder.iterdir()) and not (folder / MARK).is_file():
        raise StateError(
            "folder-in-use", f"{folder} holds other files", hint="Name a new folder, or one that an export made."
        )


def _texts(one: Deployment, how: ExportWishes) -> dict[str, str]:
    if how.engine == "kubernetes":
        if len(one.lock.encode()) + sum(len(text.encode()) for text in one.files.values()) > LARGEST_CONFIG:
            raise StateError(
                "lock-too-large",
                f"the lock of {one.name} is larger than a ConfigMap can be",
                hint="Export a container: its image has the lock.",
            )
        made = kubernetes_files(
            one, cluster=how.cluster, backup_at=how.backup_at, exec_image=how.exec_image, node=how.node
        )
        return {name: to_yaml(documents) for name, documents in made.items()}
    texts = {**container_files(one, wheels=how.wheels is not None), LOCK: one.lock, **one.files}
    if how.engine == "compose":
        texts["compose.yaml"] = to_yaml([compose_document(one)])
    return texts


def _clear(folder: Path) -> None:
    """Removes what an earlier export wrote, and nothing that a person put beside it, such as secrets."""
    for name in OWN_FOLDERS:
        if (folder / name).is_dir():
            shutil.rmtree(folder / name)
    for name in OWN_FILES:
        (folder / name).unlink(missing_ok=True)


def _write(host: Host, one: Deployment, lock: Lock, how: ExportWishes, texts: Mapping[str, str]) -> None:
    folder = how.folder
    with translated("write the export", folder):
        make_folders(folder)
        _clear(folder)
        write_atomic(folder / MARK, b"made by rhizon export; another export replaces what it wrote\n")
        for name, text in texts.items():
            make_folders((folder / name).parent)
            write_atomic(folder / name, text.encode())
        if how.engine == "kubernetes":
            return
        make_folders(folder / "config")
        write_atomic(folder / "config" / ".keep", b"")
        make_folders(archives_beside(folder / LOCK))
        write_atomic(archives_beside(folder / LOCK) / ".keep", b"")
        write_atomic(folder / ".containerignore", b"compose.yaml\nsecrets/\n.rhizon-export\n")
        if how.wheels is not None:
            make_folders(folder / "wheels")
            for wheel in sorted(how.wheels.glob("*.whl")):
                shutil.copyfile(wheel, folder / "wheels" / wheel.name)
        if how.engine == "compose" and one.secrets:
            make_folders(folder / "secrets", 0o700)
    if one.whole:
        put_beside(host, lock, folder / LOCK, write=True, whole=True)

"""A machines file whose engine is Kubernetes: its machines are nodes, its servers stateful sets."""

import json
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from rhizon.adapters.kubectl import Kubectl
from rhizon.app.handover.deploy import DeployWishes
from rhizon.app.handover.export import ExportWishes, export
from rhizon.app.host import Host
from rhizon.app.machines.outcome import ApplyResult, EachAnswer, MachineStatus, ServerOutcome, ServerThere, summed
from rhizon.app.reporter import Reporter
from rhizon.core.errors import RemoteError
from rhizon.core.handover.deployment import DATA, LABEL, PROGRAM
from rhizon.core.model.machines import MachinesFile
from rhizon.core.yaml_text import to_yaml

__all__ = ["apply_to_cluster", "cluster_status", "each_in_cluster"]


def apply_to_cluster(
    host: Host, path: Path, file: MachinesFile, reporter: Reporter, *, keep: Path | None, dry_run: bool
) -> ApplyResult:
    """Writes each server's manifests for the cluster's own version, with its machine as the node, and applies them;
    a dry run is the cluster's. Raises RemoteError, StateError."""
    kubectl = Kubectl(file.context, file.namespace)
    cluster = kubectl.version()
    outcomes: list[ServerOutcome] = []
    with tempfile.TemporaryDirectory(prefix="rhizon-machines-") as scratch:
        root = keep.absolute() if keep is not None else Path(scratch) / "manifests"
        for name, server in file.servers.items():
            machine = server.machine or ""
            if not server.source or not machine:
                why = "it has no source" if not server.source else "it has no machine yet: rhizon machines plan --write"
                outcomes.append(ServerOutcome(server=name, machine=machine, state="held", why=why))
                continue
            wishes = DeployWishes(
                source=path.absolute().parent / server.source,
                name=name,
                image=file.image,
                catalogs=file.catalogs,
                accept_licence=server.accept_licence,
            )
            how = ExportWishes(engine="kubernetes", folder=root / name, cluster=cluster, backup_at=None, node=machine)
            export(host, wishes, how, reporter)
            outcomes.append(_applied(kubectl, root / name, name, machine, reporter, dry_run=dry_run))
        if keep is not None:
            names = [one.server for one in outcomes if one.state != "held"]
            index = {"apiVersion": "kustomize.config.k8s.io/v1beta1", "kind": "Kustomization", "resources": names}
            (root / "kustomization.yaml").write_text(to_yaml([index]))
    return summed(path, file, tuple(outcomes), {}, {}, planned=dry_run)


def _applied(
    kubectl: Kubectl, folder: Path, name: str, machine: str, reporter: Reporter, *, dry_run: bool
) -> ServerOutcome:
    reporter.step(f"applying {name}")
    try:
        # apply calls a stateful set changed each time, for what the cluster adds to its claims; its diff does not
        if not dry_run and kubectl.run("diff", "-k", str(folder), passes=()).returncode == 0:
            reporter.done(f"{name}: nothing to change")
            return ServerOutcome(server=name, machine=machine, state="unchanged", why="")
        done = kubectl.run("apply", "-k", str(folder), *(["--dry-run=server"] if dry_run else []))
    except RemoteError as broken:
        why = " ".join(broken.details) or broken.message
        return ServerOutcome(server=name, machine=machine, state="failed", why=why)
    objects = done.stdout.strip().splitlines()
    reporter.done(f"{name}: {len(objects)} objects applied")
    if dry_run:
        return ServerOutcome(server=name, machine=machine, state="planned", why=f"{len(objects)} objects")
    return ServerOutcome(server=name, machine=machine, state="changed", why="")


def cluster_status(file: MachinesFile) -> tuple[tuple[MachineStatus, ...], tuple[ServerThere, ...]]:
    """The nodes, and the stateful sets with their pods. Raises RemoteError."""
    kubectl = Kubectl(file.context, file.namespace)
    pods = {str(one["metadata"]["labels"][LABEL]): one for one in kubectl.objects("pods", LABEL)}
    sets = {str(one["metadata"]["labels"][LABEL]): one for one in kubectl.objects("statefulsets", LABEL)}
    nodes = {
        str(one["metadata"]["name"]) for one in json.loads(kubectl.run("get", "nodes", "-o", "json").stdout)["items"]
    }
    servers = []
    for name in dict.fromkeys((*file.servers, *sets)):
        wanted = file.servers[name].machine if name in file.servers else None
        on = pods[name].get("spec", {}).get("nodeName") if name in pods else None
        ready = int(sets[name].get("status", {}).get("readyReplicas") or 0) if name in sets else 0
        state = "absent" if name not in sets else "ready" if ready else _pod_state(pods.get(name))
        right = name in file.servers and (ready > 0 and on == wanted)
        servers.append(ServerThere(server=name, machine=wanted, found_on=on, state=state, right=right))
    machines = tuple(
        MachineStatus(
            machine=name,
            reached=name in nodes,
            why="" if name in nodes else "the cluster has no such node",
            servers=sum(one.found_on == name for one in servers),
            running=sum(one.found_on == name and one.state == "ready" for one in servers),
        )
        for name in file.machines
    )
    return machines, tuple(servers)


def _pod_state(pod: Any) -> str:
    """Why a server is not ready, as its pod says."""
    if pod is None:
        return "no pod"
    status = pod.get("status", {})
    for one in (*status.get("initContainerStatuses", ()), *status.get("containerStatuses", ())):
        waiting = one.get("state", {}).get("waiting")
        if waiting:
            return str(waiting.get("reason", "waiting"))
    return str(status.get("phase", "unknown")).lower()


def each_in_cluster(file: MachinesFile, names: Sequence[str], words: Sequence[str]) -> list[EachAnswer]:
    """One command in each server's container; ``{}`` in it is the server's folder."""
    kubectl = Kubectl(file.context, file.namespace)
    answers = []
    for name in names:
        own = [word.replace("{}", f"{DATA}/{name}") for word in words]
        done = kubectl.run("exec", f"{name}-0", "-c", "server", "--", PROGRAM, *own, passes=())
        answers.append(EachAnswer(machine=name, code=done.returncode, out=done.stdout, errors=done.stderr))
    return answers

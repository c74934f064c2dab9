"""Kubernetes objects for one server, as a kustomize base.

The restricted profile of the Pod Security Standards; only kinds of the stable APIs. A cluster older than 1.21 has no
CronJob in batch/v1: it gets batch/v1beta1, which clusters from 1.25 on no longer have.
"""

from typing import Any

from rhizon.core.handover.deployment import (
    BACKUPS,
    DATA,
    IMAGE_FILES,
    LABEL,
    PROGRAM,
    SECRETS,
    USER,
    Deployment,
)

__all__ = ["LARGEST_CONFIG", "OLDEST", "kubernetes_files", "parse_cluster_version", "port_name"]

LARGEST_CONFIG = 1_000_000  # bytes; a ConfigMap holds 1 MiB at most
OLDEST = (1, 19)
CONFIG = "/etc/rhizon-server"
PROBE_SECONDS = 30

Manifest = dict[str, Any]


def parse_cluster_version(text: str) -> tuple[int, int]:
    """``1.27`` as two numbers. ValueError says what is wrong."""
    parts = text.removeprefix("v").split(".")
    if len(parts) < 2 or not all(part.isdecimal() for part in parts[:2]):
        raise ValueError(f"{text!r} is not a version such as 1.27")
    version = (int(parts[0]), int(parts[1]))
    if version < OLDEST:
        raise ValueError(f"{text}: clusters before {OLDEST[0]}.{OLDEST[1]} lack kinds that the manifests need")
    return version


def kubernetes_files(
    one: Deployment, *, cluster: tuple[int, int], backup_at: str | None, exec_image: str, node: str | None = None
) -> dict[str, list[Manifest]]:
    """Objects by file name, and ``kustomization.yaml``. ``backup_at`` is a cron schedule; None for no backups by
    timer; ``exec_image`` has kubectl. ``node`` is the only machine that it may run on."""
    files: dict[str, list[Manifest]] = {
        "config.yaml": [_config(one)],
        "service.yaml": _services(one),
        "network.yaml": [_network(one)],
        "server.yaml": [_stateful_set(one, node)],
    }
    if backup_at is not None:
        files["backup.yaml"] = _backup(one, cluster, backup_at, exec_image)
    files["kustomization.yaml"] = [
        {
            "apiVersion": "kustomize.config.k8s.io/v1beta1",
            "kind": "Kustomization",
            "resources": sorted(files),
        }
    ]
    return files


def _meta(one: Deployment, name: str) -> dict[str, Any]:
    return {"name": name, "labels": {LABEL: one.name}}


def _config(one: Deployment) -> Manifest:
    """The lock, the list and the game's definition."""
    data = {"server.lock.json": one.lock}
    data |= {path.rpartition("/")[2]: text for path, text in one.files.items()}
    return {"apiVersion": "v1", "kind": "ConfigMap", "metadata": _meta(one, f"{one.name}-lock"), "data": data}


def _services(one: Deployment) -> list[Manifest]:
    """One for each protocol: not every load balancer takes both in one; and a headless one for the set."""
    made: list[Manifest] = [
        {
            "apiVersion": "v1",
            "kind": "Service",
            "metadata": _meta(one, one.name),
            "spec": {"clusterIP": "None", "selector": {LABEL: one.name}, "ports": _service_ports(one, ("tcp", "udp"))},
        }
    ]
    for protocol in ("tcp", "udp"):
        ports = _service_ports(one, (protocol,))
        if ports:
            spec = {
                "type": "LoadBalancer",
                "externalTrafficPolicy": "Local",  # the server sees its players' own addresses
                "selector": {LABEL: one.name},
                "ports": ports,
            }
            meta = _meta(one, f"{one.name}-{protocol}")
            made.append({"apiVersion": "v1", "kind": "Service", "metadata": meta, "spec": spec})
    return made


def _service_ports(one: Deployment, protocols: tuple[str, ...]) -> list[dict[str, Any]]:
    return [
        {
            "name": port_name(port.role, port.number, protocol),
            "port": port.number,
            "targetPort": port.number,
            "protocol": protocol.upper(),
        }
        for port in one.ports
        for protocol in port.protocols
        if protocol in protocols
    ]


def port_name(role: str, number: int, protocol: str) -> str:
    """At most 15 letters, digits and hyphens (RFC 6335), and unique in a pod."""
    short = "".join(char if char.isalnum() else "-" for char in role.lower())[:5].strip("-")
    return f"{short or 'port'}-{protocol[0]}{number}"


def _network(one: Deployment) -> Manifest:
    """Players reach the server's ports; the server reaches nothing, or its catalogs."""
    egress: list[dict[str, Any]] = []
    if not one.whole:
        egress = [
            {"ports": [{"protocol": "UDP", "port": 53}, {"protocol": "TCP", "port": 53}]},
            {"ports": [{"protocol": "TCP", "port": 443}, {"protocol": "TCP", "port": 80}]},
        ]
    ports = [{"protocol": protocol.upper(), "port": port.number} for port in one.ports for protocol in port.protocols]
    return {
        "apiVersion": "networking.k8s.io/v1",
        "kind": "NetworkPolicy",
        "metadata": _meta(one, one.name),
        "spec": {
            "podSelector": {"matchLabels": {LABEL: one.name}},
            "policyTypes": ["Ingress", "Egress"],
            # none is nothing allowed; an empty list would look like a change to each apply
            **({"ingress": [{"ports": ports}]} if ports else {}),
            **({"egress": egress} if egress else {}),
        },
    }


def _stateful_set(one: Deployment, node: str | None) -> Manifest:
    pod: dict[str, Any] = {
        "automountServiceAccountToken": False,
        "enableServiceLinks": False,
        "terminationGracePeriodSeconds": one.stop_seconds,
        "securityContext": {
            "runAsNonRoot": True,
            "runAsUser": USER,
            "runAsGroup": USER,
            "fsGroup": USER,
            "fsGroupChangePolicy": "OnRootMismatch",
            "seccompProfile": {"type": "RuntimeDefault"},
        },
        "initContainers": [_container(one, "provision", [PROGRAM, *one.provision_words(f"{CONFIG}/server.lock.json")])],
        "containers": [_server(one)],
        "volumes": [
            {"name": "lock", "configMap": {"name": f"{one.name}-lock"}},
            {"name": "scratch", "emptyDir": {}},
        ],
    }
    if one.secrets:
        items = [{"key": name, "path": name} for name in one.secrets]
        secret = {"secretName": f"{one.name}-secrets", "items": items, "defaultMode": 0o440}
        pod["volumes"].append({"name": "secrets", "secret": secret})
    if node is not None:
        pod["nodeSelector"] = {"kubernetes.io/hostname": node}
    return {
        "apiVersion": "apps/v1",
        "kind": "StatefulSet",
        "metadata": _meta(one, one.name),
        "spec": {
            "serviceName": one.name,
            "replicas": 1,
            "selector": {"matchLabels": {LABEL: one.name}},
            "template": {
                "metadata": {"labels": {LABEL: one.name}, "annotations": {"rhizon/lock": one.lock_sha256[:32]}},
                "spec": pod,
            },
            "volumeClaimTemplates": [
                _claim(one, "data", max(one.disk_mib, 1024)),
                _claim(one, "backups", max(2 * one.disk_mib, 2048)),
            ],
        },
    }


def _claim(one: Deployment, name: str, mib: int) -> dict[str, Any]:
    spec = {"accessModes": ["ReadWriteOnce"], "resources": {"requests": {"storage": f"{mib}Mi"}}}
    return {"metadata": _meta(one, name), "spec": spec}


def _container(one: Deployment, name: str, command: list[str]) -> dict[str, Any]:
    mounts = [
        {"name": "data", "mountPath": DATA},
        {"name": "backups", "mountPath": BACKUPS},
        {"name": "scratch", "mountPath": "/tmp"},
        {"name": "lock", "mountPath": CONFIG, "readOnly": True},
    ]
    mounts += [
        {"name": "lock", "mountPath": f"{IMAGE_FILES}/{path}", "subPath": path.rpartition("/")[2], "readOnly": True}
        for path in one.files
        if path.startswith("config/")
    ]
    if one.secrets:
        mounts.append({"name": "secrets", "mountPath": SECRETS, "readOnly": True})
    return {
        "name": name,
        "image": one.image,
        "imagePullPolicy": "IfNotPresent",
        "command": command[:1],
        "args": command[1:],
        "env": [{"name": key, "value": value} for key, value in one.environment.items()],
        "resources": {
            "requests": {"memory": f"{one.memory_mib}Mi", "cpu": "500m"},
            "limits": {"memory": f"{one.memory_mib}Mi"},
        },
        "securityContext": {
            "allowPrivilegeEscalation": False,
            "readOnlyRootFilesystem": True,
            "runAsNonRoot": True,
            "capabilities": {"drop": ["ALL"]},
        },
        "volumeMounts": mounts,
    }


def _server(one: Deployment) -> dict[str, Any]:
    made = _container(one, "server", [PROGRAM, "start", one.folder, "--foreground"])
    made["ports"] = [
        {
            "name": port_name(port.role, port.number, protocol),
            "containerPort": port.number,
            "protocol": protocol.upper(),
        }
        for port in one.ports
        for protocol in port.protocols
    ]
    probe = {"periodSeconds": 10, "timeoutSeconds": PROBE_SECONDS}
    tries = max(one.ready_seconds // 10, 3)
    made["startupProbe"] = {"exec": {"command": one.ready_command()}, **probe, "failureThreshold": tries}
    made["readinessProbe"] = {"exec": {"command": one.ready_command()}, **probe, "failureThreshold": 2}
    made["livenessProbe"] = {
        "exec": {"command": one.alive_command()}, **probe, "periodSeconds": 60, "failureThreshold": 3,
    }  # fmt: skip
    return made


def _backup(one: Deployment, cluster: tuple[int, int], at: str, image: str) -> list[Manifest]:
    """The backup is made inside the server's container, where saving can be paused; the job only asks for it, and may
    do nothing else."""
    name = f"{one.name}-backup"
    run = ["exec", f"{one.name}-0", "-c", "server", "--", PROGRAM, "backup", one.folder, "--backups", BACKUPS]
    pod = {
        "serviceAccountName": name,
        "restartPolicy": "Never",
        "securityContext": {
            "runAsNonRoot": True,
            "runAsUser": USER,
            "runAsGroup": USER,
            "seccompProfile": {"type": "RuntimeDefault"},
        },
        "containers": [
            {
                "name": "backup",
                "image": image,
                "command": ["kubectl"],
                "args": run,
                "resources": {"requests": {"memory": "64Mi", "cpu": "50m"}, "limits": {"memory": "128Mi"}},
                "securityContext": {
                    "allowPrivilegeEscalation": False,
                    "readOnlyRootFilesystem": True,
                    "runAsNonRoot": True,
                    "capabilities": {"drop": ["ALL"]},
                },
            }
        ],
    }
    rules = [
        {"apiGroups": [""], "resources": ["pods"], "resourceNames": [f"{one.name}-0"], "verbs": ["get"]},
        {"apiGroups": [""], "resources": ["pods/exec"], "resourceNames": [f"{one.name}-0"], "verbs": ["create"]},
    ]
    rbac = "rbac.authorization.k8s.io"
    return [
        {"apiVersion": "v1", "kind": "ServiceAccount", "metadata": _meta(one, name)},
        {"apiVersion": f"{rbac}/v1", "kind": "Role", "metadata": _meta(one, name), "rules": rules},
        {
            "apiVersion": f"{rbac}/v1",
            "kind": "RoleBinding",
            "metadata": _meta(one, name),
            "roleRef": {"apiGroup": rbac, "kind": "Role", "name": name},
            "subjects": [{"kind": "ServiceAccount", "name": name}],
        },
        {
            "apiVersion": "batch/v1" if cluster >= (1, 21) else "batch/v1beta1",
            "kind": "CronJob",
            "metadata": _meta(one, name),
            "spec": {
                "schedule": at,
                "concurrencyPolicy": "Forbid",
                "successfulJobsHistoryLimit": 3,
                "failedJobsHistoryLimit": 3,
                "jobTemplate": {"spec": {"backoffLimit": 1, "template": {"spec": pod}}},
            },
        },
    ]

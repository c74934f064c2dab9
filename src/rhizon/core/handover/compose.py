"""A file of the Compose Specification for one server."""

from typing import Any

from rhizon.core.handover.deployment import BACKUPS, DATA, SECRETS, USER, Deployment

__all__ = ["compose_document"]


def compose_document(one: Deployment) -> dict[str, Any]:
    """The document, to be written as YAML. Secrets are files in ``secrets/`` beside it, which a person puts there."""
    service: dict[str, Any] = {
        "image": one.image,
        "build": {"context": ".", "dockerfile": "Containerfile", "args": {"BASE": "${BASE:-}"}},
        "user": f"{USER}:{USER}",
        "read_only": True,
        "tmpfs": ["/tmp"],
        "cap_drop": ["ALL"],
        "security_opt": ["no-new-privileges:true"],
        "mem_limit": f"{one.memory_mib}m",
        "ports": [f"{port.number}:{port.number}/{protocol}" for port in one.ports for protocol in port.protocols],
        "volumes": [f"data:{DATA}", f"backups:{BACKUPS}"],
        "restart": "on-failure",
        "stop_signal": "SIGTERM",
        "stop_grace_period": f"{one.stop_seconds}s",
        "healthcheck": {
            "test": ["CMD", *one.ready_command()],
            "interval": "30s",
            "timeout": "20s",
            "retries": 3,
            "start_period": f"{one.ready_seconds}s",
        },
        "labels": {"rhizon.server": one.name, "rhizon.lock": one.lock_sha256},
    }
    document: dict[str, Any] = {"services": {"server": service}, "volumes": {"data": {}, "backups": {}}}
    if one.secrets:
        service["secrets"] = [{"source": name, "target": f"{SECRETS}/{name}"} for name in one.secrets]
        document["secrets"] = {name: {"file": f"./secrets/{name}"} for name in one.secrets}
    return document

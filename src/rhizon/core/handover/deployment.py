"""What every engine has to know of a server, and the command lines that are the same for all."""

import msgspec

__all__ = [
    "BACKUPS",
    "DATA",
    "IMAGE_FILES",
    "LABEL",
    "PROGRAM",
    "SECRETS",
    "DeployedPort",
    "Deployment",
    "container_memory_mib",
]

# Inside the container.
PROGRAM = "/opt/rhizon/bin/rhizon"
IMAGE_FILES = "/opt/server"
DATA = "/srv/data"  # a volume: the server's folder and Rhizon's own state
BACKUPS = "/srv/backups"  # another one
SECRETS = "/run/secrets"
USER = 10001
LABEL = "rhizon/server"

# As core/allocate/memory.py leaves to a machine, which a container's limit is for Rhizon.
LEAST_RESERVE_MIB, MOST_RESERVE_MIB, RESERVE_SHARE = 256, 2048, 8
ROUND_MIB = 64


class DeployedPort(msgspec.Struct, frozen=True):
    """One number of a role (a block has several) and its protocols, "tcp" or "udp"."""

    role: str
    number: int
    protocols: tuple[str, ...]


class Deployment(msgspec.Struct, frozen=True, kw_only=True):
    """A server as an engine runs it. ``heap_mib`` is the server's heap, ``need_mib``
    with what is beside it, ``memory_mib`` the whole limit. ``files`` are
    texts that go beside the lock: definitions by their path (``config/games/ID.game.toml``), and the list.
    ``catalogs`` are addresses; ``whole`` where everything is in the image and no network is needed. ``secrets`` are
    secret settings, each of which the engine gives as a file. ``lock`` is the lock's text."""

    name: str
    title: str
    image: str
    version: str
    lock: str
    lock_sha256: str
    files: dict[str, str]
    heap_mib: int
    need_mib: int
    memory_mib: int
    ports: tuple[DeployedPort, ...]
    roles: dict[str, int]
    secrets: tuple[str, ...] = ()
    catalogs: tuple[str, ...] = ()
    whole: bool = True
    has_licence: bool = True
    accept_licence: bool = False
    allow_installer: bool = False
    disk_mib: int
    ready_seconds: int
    stop_seconds: int

    @property
    def folder(self) -> str:
        """The server's folder in the container."""
        return f"{DATA}/{self.name}"

    @property
    def environment(self) -> dict[str, str]:
        """Variables of every command in the container."""
        return {"RHIZON_STATE": f"{DATA}/rhizon", "RHIZON_CONFIG": f"{IMAGE_FILES}/config", "HOME": "/tmp"}

    def provision_words(self, lock: str) -> list[str]:
        """The arguments that make the server from a lock file, or leave it as it is."""
        words = ["provision", lock, self.folder, "--name", self.name, "--memory", str(self.heap_mib)]
        for role, number in self.roles.items():
            words += ["--port", f"{role}={number}"]
        for address in self.catalogs:
            words += ["--catalog", address]
        words += ["--catalog", f"{IMAGE_FILES}/server.archives"]
        if self.whole:
            words.append("--offline")
        for secret in self.secrets:
            words += ["--secret", f"{secret}={SECRETS}/{secret}"]
        if self.accept_licence:
            words.append("--accept-licence")
        if self.allow_installer:
            words.append("--allow-installer")
        return words

    def ready_command(self) -> list[str]:
        """Ends with 0 while players can join."""
        return [PROGRAM, "wait", self.folder, "ready", "--wait", "0"]

    def alive_command(self) -> list[str]:
        """Ends with 0 unless the server has failed for good."""
        return [PROGRAM, "status", self.folder]


def container_memory_mib(need_mib: int) -> int:
    """The limit of a container in which a server that needs so much (heap and the runtime's own) is granted it: what
    Rhizon leaves to a machine comes on top."""
    by_share = -(-need_mib * RESERVE_SHARE // (RESERVE_SHARE - 1))
    limit = min(max(by_share, need_mib + LEAST_RESERVE_MIB), need_mib + MOST_RESERVE_MIB)
    return -(-limit // ROUND_MIB) * ROUND_MIB

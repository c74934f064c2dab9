"""The keys by which machines are known over SSH."""

import asyncio
from pathlib import Path

from rhizon.core.errors import RemoteError

__all__ = ["CONNECT_SECONDS", "is_known", "server_key"]

CONNECT_SECONDS = 20


def is_known(known_hosts: Path, host: str, port: int) -> bool:
    """Whether a machine's key has been accepted before."""
    import asyncssh

    keys = asyncssh.match_known_hosts(str(known_hosts), host, "", port)
    return bool(keys[0] or keys[1])


async def server_key(host: str, port: int) -> tuple[str, str]:
    """The key that a machine shows: as a line of OpenSSH's known_hosts, and its fingerprint. Raises RemoteError."""
    import asyncssh

    try:
        key = await asyncio.wait_for(asyncssh.get_server_host_key(host, port), CONNECT_SECONDS)
    except (TimeoutError, OSError, asyncssh.Error) as broken:
        raise RemoteError(
            "remote-unreachable", f"the connection to {host} failed: {broken}", hint="Check host and port."
        ) from None
    if key is None:
        raise RemoteError("remote-unreachable", f"{host} shows no key", hint="Check host and port.")
    name = host if port == 22 else f"[{host}]:{port}"
    return f"{name} {key.export_public_key().decode().strip()}", key.get_fingerprint()

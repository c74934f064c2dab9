"""Who we are to a catalog: from a file that only its owner can read, the environment, or the system's keyring.

``credentials.toml`` in the config folder has one ``[[catalog]]`` table for each address: ``address`` (what an address
begins with), then ``token``; or ``user`` with ``password``; or ``user`` with ``keyring = true``. ``RHIZON_TOKEN_`` and
the host's name in capitals, other characters as ``_`` (``RHIZON_TOKEN_SHELF_EXAMPLE_8443``), holds a token too.
"""

import base64
import re
import urllib.parse
from collections.abc import Mapping
from pathlib import Path

from rhizon.adapters.files import read_bytes
from rhizon.adapters.secret_sources import from_keyring
from rhizon.core.errors import InputError
from rhizon.core.model.credentials import CatalogCredential, CredentialsFile
from rhizon.core.model.documents import decode
from rhizon.core.secret import Secret

__all__ = ["Credentials"]

_NEAR = ("127.0.0.1", "::1", "localhost")


class Credentials:
    """Read once, when the first address asks."""

    def __init__(self, file: Path | None, environment: Mapping[str, str]) -> None:
        self._file = file
        self._environment = environment
        self._known: tuple[CatalogCredential, ...] | None = None

    def header_for(self, url: str) -> dict[str, str]:
        """The header that says who we are to that address, or nothing. Raises InputError where a secret would travel
        unprotected, or where its file can be read by others."""
        parts = urllib.parse.urlsplit(url)
        value = self._value(url, parts.netloc)
        if value is None:
            return {}
        if parts.scheme != "https" and parts.hostname not in _NEAR:
            raise InputError(
                "secret-in-clear",
                f"a secret for {parts.netloc} would be sent unencrypted",
                hint="Use an https address for that catalog.",
            )
        return {"Authorization": value}

    def _value(self, url: str, origin: str) -> str | None:
        """The Authorization header for an address: a token from the environment, else what credentials.toml has, else
        None."""
        variable = "RHIZON_TOKEN_" + re.sub(r"[^A-Z0-9]", "_", origin.upper())
        token = Secret(self._environment.get(variable, ""))
        if token:
            if not token.is_sendable():
                raise InputError(
                    "secret-broken",
                    f"the token in {variable} contains a line end or another character that cannot be sent",
                    hint="Set it again, without characters that a shell or an editor may have added.",
                )
            return f"Bearer {token.reveal()}"
        for one in self._from_file():
            address = one.address.rstrip("/")
            if url == address or url.startswith(address + "/"):
                return _header(one)
        return None

    def _from_file(self) -> tuple[CatalogCredential, ...]:
        """The entries of credentials.toml, read once. Raises StateError where other users can read the file."""
        if self._known is None:
            self._known = ()
            if self._file is not None and self._file.is_file():
                if self._file.stat().st_mode & 0o077:
                    raise InputError(
                        "secret-readable",
                        f"other users can read {self._file}",
                        hint=f"chmod 600 {self._file}",
                    )
                self._known = decode(CredentialsFile, read_bytes(self._file, "credentials"), str(self._file)).catalog
        return self._known


def _header(one: CatalogCredential) -> str:
    if one.token is not None:
        return f"Bearer {one.token.reveal()}"
    password = from_keyring(f"rhizon {one.address}", one.user or "") if one.keyring else one.password or Secret("")
    pair = base64.b64encode(f"{one.user}:{password.reveal()}".encode()).decode()
    return f"Basic {pair}"

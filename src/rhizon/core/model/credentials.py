"""``credentials.toml``: who we are to catalogs that ask. Its values are shown nowhere."""

from typing import Literal

from rhizon.core.model.base import Line, Strict
from rhizon.core.secret import Secret

__all__ = ["CatalogCredential", "CredentialsFile"]


class CatalogCredential(Strict, frozen=True, kw_only=True):
    """For every address that begins with ``address``: a token, or a user with a password from here or the keyring."""

    address: Line
    token: Secret | None = None
    user: Line | None = None
    password: Secret | None = None
    keyring: bool = False

    def __post_init__(self) -> None:
        if not self.address.startswith(("https://", "http://")):
            raise ValueError("address: it begins with https:// (or http:// on this machine)")
        ways = [self.token is not None, self.password is not None, self.keyring]
        if sum(ways) != 1 or (self.user is None) is not (self.token is not None):
            raise ValueError("give a token, or a user with a password, or a user with keyring = true")
        if self.token is not None and not self.token.is_sendable():
            raise ValueError("token: it contains a line end or another character that cannot be sent")

    def __repr__(self) -> str:
        return f"CatalogCredential({self.address!r})"


class CredentialsFile(Strict, frozen=True, kw_only=True):
    """The whole file."""

    format: Literal["rhizon-credentials/1"]
    catalog: tuple[CatalogCredential, ...] = ()

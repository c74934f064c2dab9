"""The password of a rented server: never in an argument, a log, or the file that describes it."""

from pathlib import Path

from rhizon.adapters.secret_sources import from_keyring, read_secret
from rhizon.core.model.remote import Reach

__all__ = ["password_of"]


def password_of(reach: Reach) -> str:
    """From the system's keyring or from its file; "" where neither is named. Raises InputError."""
    if reach.password == "keyring":
        return from_keyring(f"rhizon {reach.user}@{reach.host}", reach.user).reveal()
    if reach.password_file:
        return read_secret(Path(reach.password_file)).reveal()
    return ""

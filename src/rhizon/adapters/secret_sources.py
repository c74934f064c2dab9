"""Where secrets come from: files, and the system's keyring (the optional package ``keyring``)."""

from pathlib import Path

from rhizon.adapters.files import read_bytes
from rhizon.core.errors import InputError
from rhizon.core.secret import Secret

__all__ = ["from_keyring", "read_secret"]

LARGEST_SECRET = 4096  # bytes


def from_keyring(service: str, user: str) -> Secret:
    """The secret that the keyring has for a service and a user. Raises InputError where there is none."""
    try:
        import keyring
        import keyring.errors
    except ImportError:
        raise InputError(
            "no-keyring",
            f"the secret for {service} comes from the keyring, but the package keyring is not installed",
            hint="Install it (pip install 'rhizon[keyring]'), or use a file.",
        ) from None
    try:
        password = keyring.get_password(service, user)
    except keyring.errors.KeyringError as broken:
        raise InputError(
            "no-keyring", f"the keyring cannot be used: {type(broken).__name__}", hint="Unlock it, or use a file."
        ) from None
    if password is None:
        raise InputError(
            "no-keyring",
            f"the keyring has no password for {service} and {user}",
            hint=f"Store it: keyring set '{service}' '{user}'",
        )
    return Secret(str(password))


def read_secret(file: Path) -> Secret:
    """A secret in a file; a line end at its end is none of it. Raises InputError; an empty file, too, is a mistake that
    would leave a server open to everybody."""
    try:
        secret = Secret(read_bytes(file, "secret", LARGEST_SECRET, pipes=True).decode("utf-8").rstrip("\r\n"))
    except UnicodeDecodeError:
        raise InputError("unreadable", f"the secret in {file} is not UTF-8 text", hint="Write it again.") from None
    if not secret:
        raise InputError("secret-empty", f"{file} is empty; it should contain a secret", hint="Write it again.")
    return secret

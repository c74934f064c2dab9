"""What backups are encrypted to, and what opens them."""

from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from rhizon.adapters.files import make_folders, translated
from rhizon.adapters.sealing import Key, Seal, passphrase_seal, read_recipients, recipient_seal
from rhizon.adapters.secret_sources import from_keyring, read_secret
from rhizon.app.host import Host
from rhizon.core.errors import InputError
from rhizon.core.secret import Secret

__all__ = ["Encryption", "Opening", "read_secret", "seal_for"]

PASSPHRASE = "passphrase"  # in place of a public key
KEYRING = "keyring"  # in place of a file with the passphrase
PROMPT = "prompt"
SERVICE = "rhizon backups"

AskSecret = Callable[[str], Secret]


def _passphrase(source: str, root: Path, ask: AskSecret | None) -> Secret:
    """From a file, the keyring (under the repository's path) or a person. Raises InputError."""
    if source == KEYRING:
        return from_keyring(SERVICE, str(root))
    if source == PROMPT:
        if ask is None:
            raise InputError(
                "nobody-to-ask", "cannot ask for the passphrase: there is no terminal",
                hint="Put it into a file that only you can read, and name it with --passphrase.",
            )  # fmt: skip
        return ask("passphrase of the backups")
    return read_secret(Path(source))


class Encryption(NamedTuple):
    """What a new backup is encrypted to: a public key, a file of them, or "passphrase" (then ``passphrase`` says where
    that comes from). ``to`` None: what host.toml says."""

    to: str | None = None
    passphrase: str | None = None
    ask: AskSecret | None = None


def seal_for(host: Host, root: Path, wish: Encryption) -> Seal | None:
    """The seal for a new backup in a repository; None where it is not to be encrypted. Raises InputError."""
    to = (wish.to,) if wish.to is not None else host.limits.encrypt_to
    if wish.passphrase is not None and to != (PASSPHRASE,):
        raise InputError("usage", "--passphrase goes with --encrypt passphrase", hint="See: rhizon backup --help")
    if not to:
        return None
    with translated("write into the backups", root):
        make_folders(root, 0o700)
        if to == (PASSPHRASE,):
            return passphrase_seal(host.places.state, root, _passphrase(wish.passphrase or PROMPT, root, wish.ask))
        recipients = tuple(sorted({one for name in to for one in read_recipients(name)}))
        return recipient_seal(host.places.state, root, recipients)


class Opening(NamedTuple):
    """What opens an encrypted backup: a file of age identities, or where the passphrase comes from."""

    key_file: Path | None = None
    passphrase: str | None = None
    ask: AskSecret | None = None

    def key(self, root: Path) -> Key | None:
        """None where neither was given. Raises InputError."""
        if self.key_file is not None:
            return Key.from_file(self.key_file)
        if self.passphrase is not None:
            return Key(passphrase=_passphrase(self.passphrase, root, self.ask))
        return None

"""Encryption of backups in age's open format (age-encryption.org/v1), through pyrage.

A lane is what one key has written in one repository: pieces in ``sealed/LANE/ab/NAME.age``. A piece's name is an
HMAC-SHA-256 of its hash under a key of the lane, so that equal pieces are kept once and names say nothing of contents.
That naming key is in ``keys/LANE.age``, encrypted like everything else, and in this host's state folder, where a backup
that no one attends finds it: writing needs no secret of the person's. A host that has lost it begins another lane.

With a passphrase the repository holds an age identity of its own, encrypted under the passphrase
(``keys/LANE.passphrase.age``).
"""

import contextlib
import hashlib
import hmac
import json
import secrets
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from rhizon.adapters.files import make_folders, read_bytes, write_atomic
from rhizon.core.errors import InputError, TrustError
from rhizon.core.secret import Secret

__all__ = ["Key", "Seal", "lane_seal", "passphrase_seal", "read_recipients", "recipient_seal"]

LARGEST_KEY_FILE = 1 << 16
_SECRET_KEY = "AGE-SECRET-KEY-1"


MOST_TRIES = 20
_COSTLY = "Excessive work"  # as age says it


class Seal:
    """Names and encrypts pieces for one lane. ``fresh`` says that the lane was begun with it."""

    def __init__(self, lane: str, recipients: tuple[str, ...], naming: Secret, *, fresh: bool = False) -> None:
        self.lane = lane
        self.recipients = recipients
        self.fresh = fresh
        self._naming = naming
        self._to = [_recipient(one) for one in recipients]

    def name(self, sha256: str) -> str:
        """The name of the piece with these bytes."""
        return hmac.new(bytes.fromhex(self._naming.reveal()), bytes.fromhex(sha256), "sha256").hexdigest()

    def encrypt(self, data: bytes) -> bytes:
        """For those who have one of the keys."""
        import pyrage

        return bytes(pyrage.encrypt(data, self._to))


class Key:
    """What opens encrypted backups: age identities, or a passphrase for the repository's own."""

    def __init__(self, identities: Sequence[Any] = (), passphrase: Secret | None = None) -> None:
        self._identities = list(identities)
        self._passphrase = passphrase
        self._opened: set[str] = set()

    @classmethod
    def from_file(cls, file: Path) -> "Key":
        """The identities in a file as ``age-keygen`` writes it. Raises InputError; what is in the file is not shown."""
        from pyrage import IdentityError, x25519

        _refuse_identity(str(file), "Put it into a file that only you can read, and name that file.")
        text = read_bytes(file, "key file", LARGEST_KEY_FILE).decode("utf-8", "replace")
        lines = [line.strip() for line in text.splitlines() if line.strip().startswith(_SECRET_KEY)]
        try:
            found = [x25519.Identity.from_str(line) for line in lines]
        except IdentityError:
            found = []
        if not found:
            raise InputError(
                "bad-key",
                f"{file} contains no age identity",
                hint=f"Name the file with a line that begins with {_SECRET_KEY}",
            )
        return cls(found)

    def decrypt(self, root: Path, lane: str, data: bytes) -> bytes:
        """Raises InputError when this is not the key of that lane, TrustError when the bytes are damaged."""
        import pyrage

        if self._passphrase is not None and lane not in self._opened:
            self._open_own(root, lane)
        try:
            return bytes(pyrage.decrypt(data, self._identities))
        except pyrage.DecryptError as wrong:
            if "No matching keys" in str(wrong) or not self._identities:
                raise InputError(
                    "wrong-key", "this key does not decrypt that backup", hint="Name the key that it was encrypted to."
                ) from None
            raise TrustError(
                "backup-damaged",
                "an encrypted part of the backups is damaged",
                hint="Take another backup of the same instance (--list). Then make a new one.",
            ) from None

    def _open_own(self, root: Path, lane: str) -> None:
        """The identity of a passphrase's lane. Raises InputError for a wrong passphrase, TrustError for a damaged
        file."""
        import pyrage
        from pyrage import x25519

        self._opened.add(lane)
        file = root / "keys" / f"{lane}.passphrase.age"
        if not file.is_file() or self._passphrase is None:
            return
        try:
            text = _decrypted(file.read_bytes(), self._passphrase.reveal())
        except pyrage.DecryptError as wrong:
            if _COSTLY in str(wrong):
                why = "opening that backup takes more work than this machine does at the moment"
                raise InputError("wrong-key", why, hint="Try again when the machine is less busy.") from None
            raise InputError("wrong-key", "wrong passphrase for that backup", hint="Try again.") from None
        self._identities.append(x25519.Identity.from_str(text.decode()))


def _decrypted(data: bytes, passphrase: str) -> bytes:
    """What a passphrase opens. age refuses work that it thinks excessive for the machine, which it measures anew each
    time: on a busy one that guess can be far too low, so it is asked again. Raises pyrage.DecryptError."""
    import pyrage

    left = MOST_TRIES
    while True:
        try:
            opened: bytes = pyrage.passphrase.decrypt(data, passphrase)
        except pyrage.DecryptError as wrong:
            left -= 1
            if not left or _COSTLY not in str(wrong):
                raise
        else:
            return opened


def _recipient(text: str) -> Any:
    """What is not a public key is not shown: people name the wrong file, and it may be the secret one."""
    from pyrage import RecipientError, x25519

    _refuse_identity(text, "Give its public key, which begins with age1 and is in the file that age-keygen wrote.")

    try:
        return x25519.Recipient.from_str(text)
    except RecipientError:
        raise InputError(
            "bad-key",
            f"a text of {len(text)} characters is not an age public key",
            hint="A public key begins with age1 and is 62 characters long.",
        ) from None


def _refuse_identity(text: str, hint: str) -> None:
    if _SECRET_KEY in text.upper():
        raise InputError("bad-key", "that is an age identity: it decrypts backups and must stay secret", hint=hint)


def read_recipients(text: str) -> tuple[str, ...]:
    """Public keys: one as it is, or those in a file, one a line. Raises InputError."""
    _refuse_identity(text, "Name a file of public keys, or give one: it begins with age1.")
    if text.startswith("age1"):
        found = [text.strip()]
    else:
        lines = read_bytes(Path(text), "file of public keys", LARGEST_KEY_FILE).decode("utf-8", "replace").splitlines()
        found = [line.strip() for line in lines if line.strip() and not line.startswith("#")]
    if not found:
        raise InputError(
            "bad-key", f"{text} contains no public key", hint="Write one key a line; each begins with age1."
        )
    for one in found:
        _recipient(one)
    return tuple(sorted(set(found)))


def _state_file(state: Path, key: str) -> Path:
    return state / "backup-keys" / f"{key}.json"


def _key_id(root: Path, recipients: tuple[str, ...]) -> str:
    return hashlib.sha256("\n".join((str(root.resolve()), *recipients)).encode()).hexdigest()[:16]


def recipient_seal(state: Path, root: Path, recipients: tuple[str, ...]) -> Seal:
    """The seal for these public keys in a repository; a new lane where this host has none. Raises OSError."""
    file = _state_file(state, _key_id(root, recipients))
    with contextlib.suppress(OSError, ValueError, KeyError):
        known = json.loads(file.read_bytes())
        if (root / "keys" / f"{known['lane']}.age").is_file():
            return Seal(known["lane"], recipients, Secret(known["naming"]))
    return _new_lane(file, root, recipients)


def passphrase_seal(state: Path, root: Path, passphrase: Secret) -> Seal:
    """The same under a passphrase, with an identity that the repository holds. Raises OSError."""
    import pyrage
    from pyrage import x25519

    file = _state_file(state, _key_id(root, ("passphrase",)))
    with contextlib.suppress(OSError, ValueError, KeyError):
        known = json.loads(file.read_bytes())
        own = root / "keys" / f"{known['lane']}.passphrase.age"
        if own.is_file():
            Key(passphrase=passphrase)._open_own(root, known["lane"])  # another passphrase is refused now, not later
            return Seal(known["lane"], tuple(known["recipients"]), Secret(known["naming"]))
    identity = x25519.Identity.generate()
    seal = _new_lane(file, root, (str(identity.to_public()),))
    locked = pyrage.passphrase.encrypt(str(identity).encode(), passphrase.reveal())
    write_atomic(root / "keys" / f"{seal.lane}.passphrase.age", bytes(locked), 0o600)
    return seal


def _new_lane(file: Path, root: Path, recipients: tuple[str, ...]) -> Seal:
    naming = secrets.token_hex(32)
    lane = hashlib.sha256(f"{recipients} {naming}".encode()).hexdigest()[:16]
    seal = Seal(lane, recipients, Secret(naming), fresh=True)
    make_folders(root / "keys", 0o700)
    write_atomic(root / "keys" / f"{lane}.age", seal.encrypt(naming.encode()), 0o600)
    make_folders(file.parent, 0o700)
    known = {"lane": lane, "recipients": recipients, "naming": naming}
    write_atomic(file, json.dumps(known).encode(), 0o600)
    return seal


def lane_seal(root: Path, lane: str, key: Key) -> Seal:
    """The names of a lane's pieces, for those who have its key. Raises InputError, TrustError."""
    data = read_bytes(root / "keys" / f"{lane}.age", "key of a lane", LARGEST_KEY_FILE)
    return Seal(lane, (), Secret(key.decrypt(root, lane, data).decode()))

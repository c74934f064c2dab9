"""What Rhizon draws where no one chose: seeds and passwords."""

import secrets
import string

from rhizon.core.secret import Secret

__all__ = ["new_password", "new_seed"]

# without the signs that are read for others: 0 and O, 1, l and I
_SIGNS = "".join(one for one in string.ascii_letters + string.digits if one not in "0O1lI")
PASSWORD_LENGTH = 16  # of 57 signs: 93 bits


def new_password() -> Secret:
    """Sixteen signs that can be read aloud and typed on any keyboard."""
    return Secret("".join(secrets.choice(_SIGNS) for _ in range(PASSWORD_LENGTH)))


def new_seed() -> int:
    """A whole number of at most nine digits: every game that takes a number takes such a one."""
    return secrets.randbelow(10**9)

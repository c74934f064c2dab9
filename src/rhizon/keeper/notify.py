"""Word to a service manager: sd_notify(3), over a datagram socket."""

import contextlib
import os
import socket
import time

__all__ = ["ServiceManager"]


class ServiceManager:
    """The service manager that started this process, where one did; without one nothing is sent."""

    def __init__(self) -> None:
        self._address = os.environ.pop("NOTIFY_SOCKET", "")  # not for the server
        watchdog = os.environ.pop("WATCHDOG_USEC", "")
        os.environ.pop("WATCHDOG_PID", "")
        self._every = int(watchdog) / 2e6 if watchdog.isdecimal() else 0.0
        self._last = 0.0

    @property
    def there(self) -> bool:
        """Whether a service manager listens."""
        return bool(self._address)

    def tell(self, text: str) -> None:
        """Sends lines of ``NAME=VALUE``."""
        if not self._address:
            return
        address = "\0" + self._address[1:] if self._address[0] == "@" else self._address
        with contextlib.suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as out:
            out.connect(address)
            out.sendall(text.encode())

    def alive(self) -> None:
        """Says that the keeper lives, as often as the watchdog wants to hear it."""
        if self._every and time.monotonic() - self._last >= self._every:
            self._last = time.monotonic()
            self.tell("WATCHDOG=1")

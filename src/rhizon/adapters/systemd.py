"""systemd of this machine, or of this user: unit files and systemctl. Where there is none, cron."""

import contextlib
import os
import shutil
import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path

from rhizon.adapters.files import translated, write_atomic
from rhizon.core.errors import StateError

__all__ = ["Systemd", "cron_lines", "has_cron", "write_cron"]

SECONDS = 120


class Systemd:
    """The manager of the machine (which needs root), or with ``user`` that of this user."""

    def __init__(self, *, user: bool) -> None:
        self.user = user
        config = Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config")
        self.folder = config / "systemd/user" if user else Path("/etc/systemd/system")

    @property
    def runs(self) -> bool:
        """Whether it runs here."""
        if shutil.which("systemctl") is None:
            return False
        return self.user or Path("/run/systemd/system").is_dir()

    def control(self, *words: str) -> str:
        """Runs systemctl. Raises :class:`StateError` with what it says."""
        command = ["systemctl", *(["--user"] if self.user else []), *words]
        try:
            done = subprocess.run(command, capture_output=True, text=True, timeout=SECONDS, check=False)
        except (OSError, subprocess.TimeoutExpired) as broken:
            raise StateError(
                "no-systemd", f"systemctl cannot be run: {broken}", hint="See: rhizon service show"
            ) from None
        if done.returncode:
            said = (done.stderr or done.stdout).strip().splitlines()
            raise StateError(
                "systemd-refused",
                f"systemctl {' '.join(words)} ended with exit code {done.returncode}",
                details=said[-5:],
                hint="Correct that, then run the same command again.",
            )
        return done.stdout

    def put(self, units: Mapping[str, str]) -> list[Path]:
        """Writes unit files and reads them in. Raises StateError."""
        paths = []
        with translated("write the units", self.folder):
            self.folder.mkdir(parents=True, exist_ok=True)
            for name, text in units.items():
                write_atomic(self.folder / name, text.encode())
                paths.append(self.folder / name)
        self.control("daemon-reload")
        return paths

    def take(self, names: Sequence[str]) -> list[Path]:
        """Removes unit files that are there. Raises StateError."""
        gone = []
        for name in names:
            path = self.folder / name
            if path.is_file():
                with contextlib.suppress(StateError):
                    self.control("disable", "--now", name) if name.endswith(".timer") else self.control("disable", name)
                with translated("remove the unit", path):
                    path.unlink()
                gone.append(path)
        if gone:
            self.control("daemon-reload")
        return gone


def has_cron() -> bool:
    """Whether there is a crontab command."""
    return shutil.which("crontab") is not None


def cron_lines() -> list[str]:
    """The lines of this user's crontab."""
    done = subprocess.run(["crontab", "-l"], capture_output=True, text=True, timeout=SECONDS, check=False)
    return done.stdout.splitlines() if done.returncode == 0 else []


def write_cron(lines: Sequence[str]) -> None:
    """Replaces this user's crontab. Raises StateError."""
    text = "".join(f"{line}\n" for line in lines)
    done = subprocess.run(["crontab", "-"], input=text, capture_output=True, text=True, timeout=SECONDS, check=False)
    if done.returncode:
        raise StateError("cron-refused", f"crontab refused: {done.stderr.strip()[:200]}", hint="See: crontab -l")

"""Running kubectl against the cluster that its own configuration names."""

import json
import shutil
import subprocess
from collections.abc import Mapping, Sequence
from typing import Any

from rhizon.core.errors import RemoteError, StateError

__all__ = ["Kubectl"]

SECONDS = 300


class Kubectl:
    """kubectl in one context ("" for the current one) and namespace."""

    def __init__(self, context: str, namespace: str) -> None:
        program = shutil.which("kubectl")
        if program is None:
            raise StateError(
                "no-kubectl", "this needs kubectl, which was not found", hint="Install kubectl and its configuration."
            )
        self._command = [program, *(["--context", context] if context else []), "--namespace", namespace]

    def run(self, *words: str, passes: Sequence[int] = (0,)) -> "subprocess.CompletedProcess[str]":
        """Runs it. Raises RemoteError (``cluster-refused``) with what it says."""
        try:
            done = subprocess.run(
                [*self._command, *words], stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=SECONDS,
                check=False,
            )  # fmt: skip
        except (OSError, subprocess.TimeoutExpired) as broken:
            raise RemoteError(
                "cluster-refused", f"kubectl failed: {broken}", hint="See whether the cluster answers: kubectl version"
            ) from None
        if passes and done.returncode not in passes:
            raise RemoteError(
                "cluster-refused",
                f"kubectl {words[0]} ended with exit code {done.returncode}",
                details=(done.stderr or done.stdout).strip().splitlines()[-6:],
                hint="Correct that, then run the same command again.",
            )
        return done

    def objects(self, kinds: str, label: str) -> list[Mapping[str, Any]]:
        """Objects with a label. Raises RemoteError."""
        done = self.run("get", kinds, "-l", label, "-o", "json")
        items: list[Mapping[str, Any]] = json.loads(done.stdout).get("items", [])
        return items

    def version(self) -> tuple[int, int]:
        """The server's version, as 1, 27. Raises RemoteError."""
        found = json.loads(self.run("version", "-o", "json").stdout)["serverVersion"]
        return int(found["major"]), int("".join(char for char in found["minor"] if char.isdecimal()))

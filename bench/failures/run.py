"""Faults that administrators make, on real servers: python bench/failures/run.py [--only TEXT] [--check]

Makes one server of each game of the made-up world, and for each case of cases.py breaks a fresh copy of it. "Foreseen":
`rhizon check` has one of the expected findings, about the right thing. "Refused": `rhizon run` does not start it; the
next column is what a start that is made all the same (``--anyway``) ends with, and "blamed" that its message names what
was broken. "Fixed": what the remedy of the finding says was done (fixes.py); then that finding is gone and the server
starts. Healthy variations must give no error, and start. ``--check`` leaves the starts out.
"""

import itertools
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from pathlib import Path
from typing import Any

from cases import FAULTS, HEALTHY, Case
from fixes import apply

ROOT = Path(__file__).parents[2]
WORLD = ROOT / "src/rhizon/world/harbour"
SERVERS = {"marsh": "tarnholt", "line": "emberline", "lamp": "gloamwick", "moor": "drovemoor"}
# What a healthy server that was edited by hand may be told.
FINE = {"setting-differs", "unknown-content"}


class Scene:
    """The four servers, each as it was made, and fresh copies of them in the place where they were made."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.environment = {
            **os.environ,
            "RHIZON_STATE": str(folder / "state"),
            "RHIZON_CONFIG": str(folder / "config"),
        }
        for name, game in SERVERS.items():
            made = self.rhizon(
                *("provision", str(WORLD / f"{game}.list.toml"), name, "--name", name, "--accept-licence"),
                *("--catalog", str(WORLD / "catalog"), "--set", "address=127.0.0.1"),
            )
            if made[0] != 0:
                raise SystemExit(f"{name} cannot be made: {made[1]}")
            self.rhizon("backup", name)  # as a careful person would have one
            shutil.copytree(folder / name, folder / "whole" / name, symlinks=True)

    def rhizon(self, *words: str) -> tuple[int, dict[str, Any]]:
        """Exit code and answer of a command."""
        command = [sys.executable, "-m", "rhizon", *words, "--json"]
        done = subprocess.run(command, cwd=self.folder, env=self.environment, capture_output=True, text=True)
        try:
            return done.returncode, json.loads(done.stdout)
        except ValueError:
            return done.returncode, {"error": {"code": "no-answer", "message": done.stderr[-300:]}}

    def broken(self, case: Case) -> Path:
        """A fresh copy of the server, with the fault."""
        home = self.folder / case.server
        subprocess.run(["chmod", "-R", "u+w", str(home)], check=False)
        shutil.rmtree(home)
        shutil.copytree(self.folder / "whole" / case.server, home, symlinks=True)
        case.change(home)
        return home

    def fixed(self, case: Case, found: dict[str, str]) -> str:
        """Carries out the remedy of a finding; "" where the fault is gone then and the server starts."""
        home = self.folder / case.server
        try:
            how = apply(home, found, self.folder / "whole" / case.server, self.rhizon)
        except OSError as broken:
            return f"NOT FIXED: {broken}"
        left = hits_of(case, findings_of(self.rhizon("check", case.server)[1]))
        code, answer = self.rhizon("run", case.server, "--trial", "--wait", "60")
        if not left and code == 0:
            return ""
        why = (answer.get("error") or {}).get("message", "") if code else [one["code"] for one in left]
        return f"NOT FIXED by {how}: {why}"


def hits_of(case: Case, found: list[dict[str, str]]) -> list[dict[str, str]]:
    """The findings that a case expects."""
    return [one for one in found if one["code"] in case.expect and case.subject in one["subject"]]


def findings_of(answer: dict[str, Any]) -> list[dict[str, str]]:
    return list(answer.get("findings") or ())


def main() -> None:
    only = [after for before, after in itertools.pairwise(sys.argv) if before == "--only"] or [""]
    starts = "--check" not in sys.argv
    with tempfile.TemporaryDirectory() as folder:
        scene = Scene(Path(folder))
        counts: Counter[str] = Counter()
        for case in (one for one in FAULTS if any(text in f"{one.server}: {one.name}" for text in only)):
            scene.broken(case)
            found = findings_of(scene.rhizon("check", case.server)[1])
            hits = hits_of(case, found)
            counts["faults"] += 1
            counts["foreseen"] += bool(hits)
            ended = ""
            if starts:
                refused = scene.rhizon("run", case.server, "--trial", "--wait", "20")
                code, answer = scene.rhizon("run", case.server, "--trial", "--wait", "20", "--anyway")
                wrong = answer.get("error") or {}
                was_refused = (refused[1].get("error") or {}).get("code") == "start-refused"
                ended = (
                    f"{'refused' if was_refused else 'started'}; {'works' if code == 0 else wrong.get('code', code)}"
                )
                counts["refused"] += was_refused
                counts["fails"] += code != 0
                counts["fails, not foreseen"] += code != 0 and not hits
                if code != 0:
                    text = json.dumps(wrong)
                    named = {case.subject, Path(case.subject).stem, hits[0]["subject"] if hits else case.subject}
                    blamed = wrong.get("code") in case.expect or any(one in text for one in named)
                    counts["blamed"] += blamed
                    ended += "" if blamed else f" NOT BLAMED: {text[:300]}"
            if hits:
                scene.broken(case)
                not_fixed = scene.fixed(case, hits[0])
                counts["fixed"] += not not_fixed
                ended += f"; {not_fixed or 'fixed'}"
            told = hits[0]["code"] if hits else "MISSED: " + (" ".join(one["code"] for one in found) or "nothing")
            print(f"{case.server:>5} {case.name:<34} {told:<22} {ended}", flush=True)
        for case in (one for one in HEALTHY if any(text in f"{one.server}: {one.name}" for text in only)):
            scene.broken(case)
            found = findings_of(scene.rhizon("check", case.server)[1])
            alarms = [one["code"] for one in found if one["severity"] != "note" and one["code"] not in FINE]
            code = scene.rhizon("run", case.server, "--trial", "--wait", "20")[0] if starts else 0
            counts["healthy"] += 1
            counts["alarms"] += bool(alarms) or code != 0
            print(f"{case.server:>5} {case.name:<34} {' '.join(alarms) or 'fine'} {code or ''}", flush=True)
        print(", ".join(f"{what} {count}" for what, count in counts.items()))


if __name__ == "__main__":
    main()

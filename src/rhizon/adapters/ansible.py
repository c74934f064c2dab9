"""Running Ansible: a folder with what it needs, and its results as they come."""

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from rhizon.adapters.files import translated
from rhizon.core.errors import StateError

__all__ = ["TaskResult", "answer_of", "find_ansible", "run_plays", "words_of_failure", "write_project"]

PLAYBOOKS = Path(__file__).parents[1] / "playbooks"
POLL_SECONDS = 0.2
SETTINGS = """[defaults]
inventory = inventory.yaml
callback_plugins = callback_plugins
callbacks_enabled = rhizon_report
collections_path = .
gathering = explicit
interpreter_python = auto_silent
retry_files_enabled = false
timeout = 15

[ssh_connection]
pipelining = true
# a machine that goes down in the middle is given up after half a minute
ssh_args = -o ControlMaster=auto -o ControlPersist=60s -o ServerAliveInterval=10 -o ServerAliveCountMax=3
"""


class TaskResult(NamedTuple):
    """What one task did on one machine: "ok", "failed" or "unreachable"."""

    machine: str
    task: str
    state: str
    changed: bool
    code: int | None
    out: str
    errors: str
    message: str


def find_ansible() -> str:
    """The program, from Rhizon's own environment or the path. Raises StateError (``no-ansible``)."""
    beside = Path(sys.executable).with_name("ansible-playbook")
    found = str(beside) if beside.is_file() else shutil.which("ansible-playbook")
    if found is None:
        raise StateError(
            "no-ansible",
            "this needs ansible-playbook, which was not found",
            hint="Install it: pip install 'rhizon[machines]', or ansible-core from your system",
        )
    return found


def write_project(folder: Path, texts: Mapping[str, str]) -> None:
    """The collection, its settings and the given files. Raises StateError."""
    with translated("write the playbook", folder):
        shutil.copytree(PLAYBOOKS / "ansible_collections", folder / "ansible_collections", dirs_exist_ok=True)
        (folder / "callback_plugins").mkdir(parents=True, exist_ok=True)
        shutil.copyfile(PLAYBOOKS / "callback/rhizon_report.txt", folder / "callback_plugins/rhizon_report.py")
        (folder / "ansible.cfg").write_text(SETTINGS)
        for name, text in texts.items():
            (folder / name).write_text(text)


def run_plays(folder: Path, tell: Callable[[TaskResult], None]) -> list[TaskResult]:
    """Runs ``plays.yaml`` of a project; ``tell`` hears of each result as it comes. Raises StateError where Ansible
    itself fails (``ansible-failed``); what fails on a machine is a result."""
    program = find_ansible()
    with tempfile.TemporaryDirectory(prefix="rhizon-run-") as own:
        report = Path(own) / "report.jsonl"
        report.touch()
        environment = {
            **os.environ,
            "ANSIBLE_CONFIG": str(folder / "ansible.cfg"),
            "RHIZON_REPORT": str(report),
            # connections of this run alone: one that an earlier run left may hang
            "ANSIBLE_SSH_CONTROL_PATH_DIR": own,
        }
        environment.pop("PYTHONPATH", None)
        with (folder / "ansible.log").open("wb") as log:
            process = subprocess.Popen(
                [program, "plays.yaml"],
                cwd=folder,
                env=environment,
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=subprocess.STDOUT,
            )
            results: list[TaskResult] = []
            try:
                for one in _followed(report, process):
                    results.append(one)
                    tell(one)
            except BaseException:
                process.terminate()
                process.wait()
                raise
    # 2: a task failed; 4: a machine was not reached
    if process.returncode not in (0, 2, 4) or not results:
        said = (folder / "ansible.log").read_text("utf-8", "replace").strip().splitlines()
        raise StateError(
            "ansible-failed",
            f"ansible-playbook ended with exit code {process.returncode}",
            details=said[-6:],
            hint="Correct that, then run the same command again.",
        )
    return results


def _followed(report: Path, process: "subprocess.Popen[bytes]") -> Iterator[TaskResult]:
    with report.open(encoding="utf-8") as lines:
        rest = ""
        while True:
            ended = process.poll() is not None
            rest += lines.read()
            while "\n" in rest:
                line, _, rest = rest.partition("\n")
                yield _result(json.loads(line))
            if ended:
                return
            time.sleep(POLL_SECONDS)


def _result(line: Mapping[str, Any]) -> TaskResult:
    return TaskResult(
        str(line["machine"]), str(line["task"]), str(line["state"]), bool(line["changed"]), line["code"],
        str(line["out"]), str(line["errors"]), str(line["message"]),
    )  # fmt: skip


def answer_of(result: TaskResult) -> Mapping[str, Any] | None:
    """The JSON object that Rhizon printed there; None where it printed none."""
    try:
        found = json.loads(result.out)
    except ValueError:
        return None
    return found if isinstance(found, dict) else None


def words_of_failure(result: TaskResult) -> str:
    """Why it failed, in a line: what Rhizon said there, else what Ansible says."""
    answer = answer_of(result)
    error: Sequence[Any] | Mapping[str, Any] | None = answer.get("error") if answer is not None else None
    if isinstance(error, dict):
        return str(error.get("message", ""))
    lines = (result.errors or result.message or result.out).strip().splitlines()
    return lines[-1].removeprefix("Task failed: ") if lines else "failed"

"""How long commands that only read take, beside the floor: python bench/startup.py [RUNS]

Whole processes, median of RUNS (default 9), all in one run; the ratio is to importing Click alone.
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import rhizon

WORLD = Path(rhizon.__file__).parent / "world" / "harbour"
FLOOR = [sys.executable, "-c", "import click"]
PROGRAM = [sys.executable, "-m", "rhizon"]
COMMANDS = {
    "import click": FLOOR,
    "rhizon --help": [*PROGRAM, "--help"],
    "rhizon --version": [*PROGRAM, "--version"],
    "rhizon list": [*PROGRAM, "list"],
    "rhizon inspect LIST": [*PROGRAM, "inspect", str(WORLD / "tarnholt.list.toml")],
    "rhizon game show tarnholt": [*PROGRAM, "game", "show", "tarnholt"],
}


def main() -> None:
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 9
    with tempfile.TemporaryDirectory() as state:
        environment = os.environ | {"RHIZON_STATE": state}
        environment.pop("PYTHONDONTWRITEBYTECODE", None)
        times: dict[str, list[float]] = {name: [] for name in COMMANDS}
        for turn in range(runs + 1):  # the first turn only warms the caches
            for name, command in COMMANDS.items():
                begun = time.perf_counter()
                subprocess.run(command, env=environment, stdout=subprocess.DEVNULL, check=True)
                if turn:
                    times[name].append(time.perf_counter() - begun)
    floor = statistics.median(times["import click"])
    print(f"{'command':28} {'median s':>9} {'ratio':>6}   ({runs} runs)")
    for name, measured in times.items():
        print(f"{name:28} {statistics.median(measured):9.3f} {statistics.median(measured) / floor:6.2f}")


if __name__ == "__main__":
    main()

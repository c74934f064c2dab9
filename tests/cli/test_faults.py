"""A small run of bench/faults: commands that are killed or fail leave the old state or the new one."""

import shutil
import subprocess
import sys
import unittest
from pathlib import Path

from rhizon.adapters.inside import Inside
from rhizon.adapters.store import Store
from rhizon.core.plan import WantedFile
from tests.support import NO_JAVA, Case, java17

RUN = Path(__file__).parents[2] / "bench/faults/run.py"


@unittest.skipUnless(java17(), NO_JAVA)
class Faults(unittest.TestCase):
    def test_kills_and_faults(self) -> None:
        if shutil.which("strace") is None:
            self.skipTest("strace is not on this machine")
        command = [sys.executable, str(RUN), "--only", "set", "--kills", "3", "--interrupts", "2", "--faults", "1"]
        done = subprocess.run(command, capture_output=True, text=True, timeout=900)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        for line in ("3 kills: 0 wrong", "2 interrupts: 0 wrong", "6 faults: 0 wrong"):
            self.assertIn(line, done.stdout)


class OtherFileSystems(Case):
    def test_blocks_are_shared_where_the_file_system_can(self) -> None:
        if shutil.which("mkfs.btrfs") is None:
            self.skipTest("mkfs.btrfs is not on this machine")
        image, mount = self.folder / "image", self.folder / "mount"
        mount.mkdir()
        with image.open("wb") as file:
            file.truncate(128 << 20)
        subprocess.run(["mkfs.btrfs", "-q", str(image)], check=True, capture_output=True)
        if subprocess.run(["mount", "-o", "loop", str(image), str(mount)], capture_output=True).returncode:
            self.skipTest("this machine does not allow to mount")
        self.addCleanup(subprocess.run, ["umount", str(mount)], check=True)
        store = Store(mount / "store")
        self.addCleanup(store.verified.close)
        data = bytes(range(256)) * (40 << 12)
        sha256 = store.add(data)

        def used() -> int:
            subprocess.run(["sync", "-f", str(mount)], check=True)
            return shutil.disk_usage(mount).used

        before = used()
        target = mount / "copy"
        with Inside(mount) as inside:
            store.lay_out(WantedFile(sha256=sha256, size=len(data), origin="a file"), inside, "copy")
        self.assertLess(used() - before, len(data) // 4)
        self.assertEqual((target.read_bytes(), target.stat().st_nlink), (data, 1))
        self.assertEqual(store.verified.sha256_of(target.stat()), sha256)
        with target.open("r+b") as file:
            file.write(b"changed")
        self.assertEqual(store.read(sha256, "a file"), data)
        self.assertIsNone(store.verified.sha256_of(target.stat()))

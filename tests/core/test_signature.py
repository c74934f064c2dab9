"""Signed archives, whole and changed after signing, against what Java 17 really did with each."""

import base64
import hashlib
import io
import re
import shutil
import subprocess
import tempfile
import unittest
import zipfile
from collections.abc import Callable
from pathlib import Path

from rhizon.core.archives.entries import Archive
from rhizon.core.archives.signature import signature_findings

SIGNED = Path(__file__).parents[1] / "signed"
LAMP = "harbour/lamp/Lamp.class"
LOADER = """
import java.net.*; import java.io.*;
class Load { public static void main(String[] files) throws Exception { for (String file : files) {
  try (URLClassLoader from = new URLClassLoader(new URL[] {new File(file).toURI().toURL()})) {
    int loaded = 0; String text = "text";
    for (String name : "harbour.lamp.Lamp harbour.lamp.Wick harbour.other.Oil".split(" "))
      try { Class.forName(name, true, from); loaded++; } catch (SecurityException refused) { }
    try { from.getResourceAsStream("note.txt").readAllBytes(); } catch (SecurityException refused) { text = "none"; }
    System.out.println(file.replaceAll(".*/", "") + " " + loaded + " " + text); } } } }
"""
Change = Callable[[str, bytes], bytes | None]


def digest(data: bytes) -> bytes:
    return base64.b64encode(hashlib.sha256(data).digest())


def other_lamp(lamp: bytes) -> bytes:
    return lamp.replace(b"\x00\x04lamp", b"\x00\x04lamq")


def at(pattern: str, change: Callable[[bytes], bytes | None]) -> Change:
    return lambda name, data: change(data) if re.fullmatch(pattern, name) else data


def bit(data: bytes) -> bytes:
    return data[:-5] + bytes([data[-5] ^ 1]) + data[-4:]


def with_its_digest(name: str, data: bytes) -> bytes | None:
    """Another class, and its digest in the manifest, which is signed."""
    with zipfile.ZipFile(SIGNED / "rsa.jar") as whole:
        old = whole.read(LAMP)
    data = data.replace(digest(old), digest(other_lamp(old))) if name.endswith("MANIFEST.MF") else data
    return other_lamp(data) if name == LAMP else data


WICK = rb"Name: harbour/lamp/Wick.class\r\nSHA-256-Digest: [^\r]*\r\n\r\n"
# what becomes of a signed archive, and of that: how many of three classes Java loads, and whether it gives the text
CHANGED: dict[str, tuple[str, Change, int, bool]] = {
    **{f"whole-{one}": (one, lambda _, data: data, 3, True) for one in ("rsa", "ec", "dsa", "ed25519", "pss", "two")},
    **{f"whole-{one}": (one, lambda _, data: data, 3, True) for one in ("sha1", "sha512")},
    "class": ("rsa", at(LAMP, other_lamp), 2, True),
    "class-weak-digest": ("sha1", at(LAMP, other_lamp), 3, True),  # that signature counts as none
    "class-and-manifest": ("rsa", with_its_digest, 0, False),
    "text": ("rsa", at("note.txt", lambda _: b"other"), 3, False),
    "no-block": ("rsa", at(".*RSA", lambda _: None), 3, True),
    "no-signature-file": ("rsa", at(".*SF", lambda _: None), 3, True),
    "block-garbage": ("rsa", at(".*RSA", lambda _: b"garbage"), 3, True),
    "manifest-main": ("rsa", at(".*MF", lambda data: data.replace(b"By: 17", b"By: 18")), 0, False),
    "manifest-more": ("rsa", at(".*MF", lambda data: data + b"Name: new.txt\r\nX: y\r\n\r\n"), 3, True),
    "manifest-less": ("rsa", at(".*MF", lambda data: re.sub(WICK, b"", data)), 0, False),
    **{
        f"block-{one}": (one, at(r".*/(RSA|EC|DSA|ED25519)\.(RSA|EC|DSA)", bit), 0, False)
        for one in ("rsa", "pss", "two")
    },
    **{
        f"signature-file-{one}": (one, at(".*SF", lambda data: data.replace(b"Created-By", b"Created-Bz")), 0, False)
        for one in ("rsa", "ec", "dsa", "ed25519", "sha512")
    },
}


def changed(base: str, change: Change) -> bytes:
    made = io.BytesIO()
    with zipfile.ZipFile(SIGNED / f"{base}.jar") as whole, zipfile.ZipFile(made, "w") as out:
        for name in whole.namelist():
            data = change(name, whole.read(name))
            if data is not None:
                out.writestr(name, data)
    return made.getvalue()


class Signatures(unittest.TestCase):
    def test_what_java_refuses_is_told(self) -> None:
        for name, (base, change, classes, text) in CHANGED.items():
            with self.subTest(name):
                found = signature_findings(Archive(changed(base, change), name))
                severities = {one.severity for one in found}
                self.assertEqual("error" in severities, classes < 3, found)
                self.assertEqual("Java loads no class" in str(found), classes == 0, found)
                self.assertEqual("warning" in severities, classes == 3 and not text, found)

    @unittest.skipUnless(shutil.which("javac"), "no Java compiler on this machine")
    def test_java_does_what_the_table_says(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "Load.java").write_text(LOADER, encoding="utf-8")
            jars = []
            for name, (base, change, _, _) in CHANGED.items():
                jars.append(Path(folder, f"{name}.jar"))
                jars[-1].write_bytes(changed(base, change))
            command = ["java", Path(folder, "Load.java"), *jars]
            done = subprocess.run(command, capture_output=True, text=True, check=True)
        happened = [line.split() for line in done.stdout.splitlines()]
        expected = [[f"{n}.jar", str(made), "text" if text else "none"] for n, (_, _, made, text) in CHANGED.items()]
        self.assertEqual(happened, expected)


if __name__ == "__main__":
    unittest.main()

"""Archives and other sides that mean harm: python bench/hostile/run.py [archives] [network] [NAME ...]

Each case is one run of the program. An archive may take 2 s of processor time and 0.3 s for each MB of it, and 500 MB
of memory; an answer over the network may keep the program for 60 s. A traceback or an internal error is always wrong.
Exit code 1 when one case was.
"""

import io
import json
import multiprocessing
import os
import random
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path

ROOT = Path(__file__).parents[2]
SHIPPED = ROOT / "src/rhizon/world/harbour"
PROGRAM = [sys.executable, "-m", "rhizon"]
CPU_SECONDS, CPU_SECONDS_PER_MB, MOST_MB = 2.0, 0.3, 500
ANSWER_SECONDS = 60.0
ABOUT = {
    "id": "odd", "version": "1.0.0", "title": "Odd", "kind": "mod", "side": "both", "tarnholt": "*", "keelson": "*",
    "entry": "odd.Odd",
}  # fmt: skip
METADATA = ("keel/about.json", "gunwale-plate.xml", "META-INF/MANIFEST.MF")


def packed(entries: dict[str, bytes], level: int = 9) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=level) as made:
        for name, data in entries.items():
            made.writestr(name, data)
    return out.getvalue()


def class_file(pool: list[bytes], rest: bytes) -> bytes:
    return b"\xca\xfe\xba\xbe" + struct.pack(">HHH", 0, 61, len(pool) + 1) + b"".join(pool) + rest


def text_constant(text: bytes) -> bytes:
    return b"\x01" + struct.pack(">H", len(text)) + text


def descriptor_bomb() -> bytes:
    """A method whose every instruction names thousands of types."""
    types = b"(" + b"La;" * 21_000 + b")V"
    pool = [
        text_constant(b"odd/Odd"), b"\x07" + struct.pack(">H", 1), text_constant(b"java/lang/Object"),
        b"\x07" + struct.pack(">H", 3), text_constant(b"run"), text_constant(types), text_constant(b"Code"),
        b"\x0c" + struct.pack(">HH", 5, 6), b"\x12" + struct.pack(">HH", 0, 8), text_constant(b"BootstrapMethods"),
        b"\x0f\x06" + struct.pack(">H", 12), b"\x0a" + struct.pack(">HH", 2, 8),
    ]  # fmt: skip
    code = b"\xba\x00\x09\x00\x00" * 13_000
    body = struct.pack(">HHI", 0, 0, len(code)) + code + struct.pack(">HH", 0, 0)
    method = struct.pack(">HHHH", 9, 5, 6, 1) + struct.pack(">HI", 7, len(body)) + body
    boot = struct.pack(">HHH", 1, 11, 0)
    rest = struct.pack(">HHHHHH", 1, 2, 4, 0, 0, 40) + method * 40 + struct.pack(">HHI", 1, 10, len(boot)) + boot
    return class_file(pool, rest)


def deep_annotation() -> bytes:
    pool = [
        text_constant(b"odd/Odd"), b"\x07" + struct.pack(">H", 1), text_constant(b"java/lang/Object"),
        b"\x07" + struct.pack(">H", 3), text_constant(b"RuntimeVisibleAnnotations"), text_constant(b"La;"),
    ]  # fmt: skip
    value = b"[\x00\x01" * 200_000 + b"I\x00\x01"
    body = struct.pack(">HHH", 1, 6, 1) + struct.pack(">H", 6) + value
    return class_file(pool, struct.pack(">HHHHHH", 1, 2, 4, 0, 0, 0) + struct.pack(">HHI", 1, 5, len(body)) + body)


def overlapping(count: int) -> bytes:
    """Entries that are all the same bytes."""
    kernel = zlib.compressobj(9, zlib.DEFLATED, -15)
    data = kernel.compress(bytes(900_000)) + kernel.flush()
    crc = zlib.crc32(bytes(900_000))
    local = struct.pack("<4sHHHHHIIIHH", b"PK\3\4", 20, 0, 8, 0, 0, crc, len(data), 900_000, 1, 0) + b"a" + data
    central = b""
    for number in range(count):
        name = f"odd/C{number}.class".encode()
        central += struct.pack(
            "<4sHHHHHHIIIHHHHHII",
            b"PK\1\2", 20, 20, 0, 8, 0, 0, crc, len(data), 900_000, len(name), 0, 0, 0, 0, 0, 0,
        ) + name  # fmt: skip
    end = struct.pack("<4sHHHHIIH", b"PK\5\6", 0, 0, count, count, len(central), len(local), 0)
    return local + central + end


def many_entries(count: int) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as made:
        for number in range(count):
            made.writestr(zipfile.ZipInfo(f"a/{number}"), b"")
    return out.getvalue()


def claims_entries() -> bytes:
    """An end record that promises ten million entries over a directory of zeros."""
    size = 100_000_000
    wide = struct.pack("<4sQHHIIQQQQ", b"PK\6\6", 44, 45, 45, 0, 0, 10_000_000, 10_000_000, size, 0)
    locator = struct.pack("<4sIQI", b"PK\6\7", 0, size, 1)
    end = struct.pack("<4sHHHHIIH", b"PK\5\6", 0, 0, 0xFFFF, 0xFFFF, 0xFFFFFFFF, 0xFFFFFFFF, 0)
    return b"PK\1\2" * (size // 4) + wide + locator + end


def nested(depth: int, width: int) -> bytes:
    inner = packed({"a.class": bytes(1_000_000)})
    for _ in range(depth):
        inner = packed({f"{number}.jar": inner for number in range(width)})
    return inner


def archives() -> dict[str, Callable[[], bytes]]:
    manifest = b"Manifest-Version: 1.0\n\n"
    named = b"Name: big.bin\nSHA-256-Digest: AAAA\n\n" * 20_000
    about = {"keel/about.json": json.dumps(ABOUT).encode()}
    head = b"\xca\xfe\xba\xbe\0\0\0\x3d"
    rng = random.Random(1907)
    dll = (ROOT / "tests/assemblies/Lantern.dll").read_bytes()

    def bent(seed: int) -> bytes:
        chance = random.Random(seed)
        bad = bytearray(dll)
        for _ in range(1 + seed * 3):
            bad[chance.randrange(len(bad))] = chance.randrange(256)
        return bytes(bad)

    cases: dict[str, Callable[[], bytes]] = {
        "bomb.jar": lambda: packed({"a.bin": bytes(400 << 20)}, 1),
        "small-bombs.jar": lambda: packed({**about, **{f"odd/C{n}.class": bytes(1 << 20) for n in range(1500)}}),
        "services.jar": lambda: packed(
            {**about, **{f"META-INF/services/s{n}": b"a.B\n" * 262_144 for n in range(3000)}}
        ),
        "manifest.jar": lambda: packed(
            {**about, "META-INF/MANIFEST.MF": manifest + named, "META-INF/A.SF": b"x", "big.bin": bytes(900_000)}
        ),
        "overlaps.jar": lambda: overlapping(60_000),
        "entries.jar": lambda: many_entries(99_000),
        "too-many-entries.jar": lambda: many_entries(130_000),
        "claims.jar": claims_entries,
        "nested.jar": lambda: nested(3, 12),
        "nested-wide.jar": lambda: packed(
            {f"{n}.jar": packed({"x": rng.randbytes(4_000_000)}, 1) for n in range(60)}, 1
        ),
        "descriptors.jar": lambda: packed({**about, "odd/Odd.class": descriptor_bomb()}),
        "annotations.jar": lambda: packed({**about, "odd/Odd.class": deep_annotation()}),
        "class-of-noise.jar": lambda: packed({**about, "odd/Odd.class": head + rng.randbytes(7 << 20)}, 1),
        "noise.jar": lambda: b"PK\3\4" + rng.randbytes(3_000_000),
        "cut.jar": lambda: packed({f"odd/C{n}.class": rng.randbytes(9_000) for n in range(300)})[:-900],
        "padded.dll": lambda: dll + bytes(15 << 20),
        "longest.dll": lambda: dll + bytes(90 << 20),
    }
    texts = {
        "open": b"[" * 900_000, "tags": b"<a>" * 300_000, "digits": b"[" + b"1" * 900_000, "colon": b"a: " * 300_000,
        "entity": b'<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>', "comments": b"<!--" * 200_000,
        "quotes": b"[]" * 101 + b'"' + b'\\"' * 400_000, "blanks": b" " * 900_000, "lines": b"\n \n" * 300_000,
    }  # fmt: skip
    for name in METADATA:
        for kind, text in texts.items():
            cases[f"{kind}-{name.replace('/', '-')}.jar"] = lambda name=name, text=text: packed({name: text})  # type: ignore[misc]
    for seed in range(12):
        cases[f"bent-{seed}.dll"] = lambda seed=seed: bent(seed)  # type: ignore[misc]
    return cases


# made in place: no bytes, or more than fit
SPECIAL: dict[str, Callable[[Path], object]] = {
    "pipe.jar": os.mkfifo,
    "device.jar": lambda path: path.symlink_to("/dev/zero"),
    "sparse.jar": lambda path: _sparse(path, 3 << 30),
    "large.jar": lambda path: _large(path, 600),
}


def _sparse(path: Path, size: int) -> None:
    with path.open("wb") as file:
        file.truncate(size)


def _large(path: Path, megabytes: int) -> None:
    block = random.Random(3).randbytes(1 << 20)
    with zipfile.ZipFile(path, "w") as made:
        for number in range(megabytes // 20):
            made.writestr(f"assets/{number}.bin", block * 20)
        made.writestr("odd/Odd.class", b"\xca\xfe\xba\xbe\0\0\0\x3d")


def run(words: list[str], folder: Path, seconds: float) -> tuple[int, float, float, str, bool]:
    """Exit code, processor seconds, MB at most, what was printed, and whether it had to be killed."""
    environment = {**os.environ, "RHIZON_STATE": str(folder / "state"), "RHIZON_CONFIG": str(folder / "config")}
    with tempfile.TemporaryFile() as out:
        child = subprocess.Popen([*PROGRAM, *words], stdout=out, stderr=subprocess.STDOUT, env=environment)
        timer = threading.Timer(seconds, child.kill)
        timer.start()
        _, status, usage = os.wait4(child.pid, 0)
        killed = not timer.is_alive()
        timer.cancel()
        child.returncode = os.waitstatus_to_exitcode(status)
        out.seek(0)
        text = out.read().decode("utf-8", "replace")
    return child.returncode, usage.ru_utime + usage.ru_stime, usage.ru_maxrss / 1024, text, killed


def make(name: str, path: Path) -> None:
    if name in SPECIAL:
        SPECIAL[name](path)
    else:
        path.write_bytes(archives()[name]())


def judge_archives(names: list[str]) -> int:
    wrong = 0
    with tempfile.TemporaryDirectory(prefix="rhizon-hostile-") as scratch:
        folder = Path(scratch)
        run(["--version"], folder, 60)
        _, base, _, _, _ = run(["inspect", str(SHIPPED / "tarnholt.list.toml")], folder, 60)
        print(f"start of the program alone: {base:.2f} s")
        for name in (*archives(), *SPECIAL):
            if names and not any(one in name for one in names):
                continue
            path = folder / name
            # in a process of its own: what a child uses is counted from what its parent had
            maker = multiprocessing.Process(target=make, args=(name, path))
            maker.start()
            maker.join()
            megabytes = path.stat().st_size / 1e6 if path.is_file() else 0.0
            limit = CPU_SECONDS + CPU_SECONDS_PER_MB * megabytes
            code, cpu, memory, text, killed = run(["inspect", str(path), "--game", "tarnholt"], folder, 120)
            bad = killed or cpu > limit or memory > MOST_MB or "Traceback" in text or "internal error" in text
            wrong += bad
            told = next((line for line in text.splitlines() if line.startswith(("error", "warning"))), "")[:100]
            mark = "WRONG" if bad else "ok"
            print(f"{mark:5} {name:36} {megabytes:7.1f} MB {cpu:6.2f} s {memory:5.0f} MB {code} {told}")
            path.unlink()
    return wrong


HEAD = b"HTTP/1.1 200 OK\r\n"


def answers() -> dict[str, Callable[[socket.socket], None]]:
    def moved(to: bytes) -> Callable[[socket.socket], None]:
        return lambda one: one.sendall(b"HTTP/1.1 302 F\r\nLocation: " + to + b"\r\nContent-Length: 0\r\n\r\n")

    def for_ever(first: bytes, again: bytes, pause: float) -> Callable[[socket.socket], None]:
        def send(one: socket.socket) -> None:
            one.sendall(first)
            while True:
                one.sendall(again)
                time.sleep(pause)

        return send

    def body(data: bytes) -> Callable[[socket.socket], None]:
        return lambda one: one.sendall(HEAD + b"Content-Length: %d\r\n\r\n" % len(data) + data)

    return {
        "login page": body(b"<!doctype html><title>Log in</title>"),
        "broken JSON": body(b'{"format": "rhizon-catalog/1", "games"'),
        "deep JSON": body(b"[" * 500_000),
        "another document": body(b'{"format": "rhizon-lock/1"}'),
        "nothing": lambda _one: None,
        "never": lambda _one: time.sleep(300),
        "slow headers": for_ever(HEAD + b"X: ", b"a", 0.9),
        "interim for ever": for_ever(b"", b"HTTP/1.1 100 Continue\r\n\r\n", 0.01),
        "interim headers": for_ever(b"HTTP/1.1 103 Early Hints\r\n", b"a: b\r\n", 0.3),
        "trickle": for_ever(HEAD + b"Content-Length: 900000\r\n\r\n", b" ", 0.5),
        "trickle in chunks": for_ever(HEAD + b"Transfer-Encoding: chunked\r\n\r\n", b"1\r\n \r\n", 0.5),
        "endless": for_ever(HEAD + b"\r\n", b" " * 65536, 0.0),
        "huge length": lambda one: one.sendall(HEAD + b"Content-Length: 99999999999999\r\n\r\n{}"),
        "absurd length": lambda one: one.sendall(HEAD + b"Content-Length: " + b"9" * 5000 + b"\r\n\r\n{}"),
        "negative length": lambda one: one.sendall(HEAD + b"Content-Length: -1\r\n\r\n{}"),
        "bad chunk": lambda one: one.sendall(HEAD + b"Transfer-Encoding: chunked\r\n\r\nzz\r\n{}"),
        "redirect to file": moved(b"file:///etc/passwd"),
        "redirect to a broken host": moved(b"http://[::1"),
        "redirect to a bad port": moved(b"http://127.0.0.1:70000/"),
        "redirect to a long label": moved(b"http://" + b"a" * 70 + b".example/"),
        "redirect to itself": moved(b"/catalog.json"),
        "garbage": lambda one: one.sendall(os.urandom(3000)),
        "long header": lambda one: one.sendall(HEAD + b"X: " + b"a" * 200_000 + b"\r\n\r\n"),
    }


def judge_network(names: list[str]) -> int:
    wrong = 0
    with tempfile.TemporaryDirectory(prefix="rhizon-hostile-") as scratch:
        for name, send in answers().items():
            if names and not any(one in name for one in names):
                continue
            with socket.create_server(("127.0.0.1", 0)) as listener:
                threading.Thread(target=_serve, args=(listener, send), daemon=True).start()
                url = f"http://127.0.0.1:{listener.getsockname()[1]}"
                words = ["solve", str(SHIPPED / "tarnholt.list.toml"), "--catalog", url, "--dry-run"]
                begun = time.monotonic()
                code, _, memory, text, killed = run(words, Path(scratch), ANSWER_SECONDS + 5)
                seconds = time.monotonic() - begun
            bad = killed or seconds > ANSWER_SECONDS or code not in (4, 5) or "internal" in text or "Traceback" in text
            wrong += bad
            print(f"{'WRONG' if bad else 'ok':5} {name:26} {seconds:5.1f} s {memory:5.0f} MB {code} {text[:90]!r}")
    return wrong


def _serve(listener: socket.socket, send: Callable[[socket.socket], None]) -> None:
    def answer(one: socket.socket) -> None:
        try:
            with one:
                one.recv(1 << 16)
                send(one)
        except OSError:
            pass

    while True:
        try:
            client, _ = listener.accept()
        except OSError:
            return
        threading.Thread(target=answer, args=(client,), daemon=True).start()


def main() -> int:
    asked = sys.argv[1:]
    kinds = [one for one in asked if one in ("archives", "network")] or ["archives", "network"]
    names = [one for one in asked if one not in ("archives", "network")]
    wrong = judge_archives(names) if "archives" in kinds else 0
    wrong += judge_network(names) if "network" in kinds else 0
    print(f"{wrong} wrong")
    return 1 if wrong else 0


sys.exit(main())

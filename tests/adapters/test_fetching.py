"""Fetching from a server that misbehaves: all of a file comes, or one clear error and nothing of it."""

import contextlib
import hashlib
import os
import shutil
import socket
import ssl
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from unittest import mock

from rhizon.adapters.catalogs import open_catalogs
from rhizon.adapters.credentials import Credentials
from rhizon.adapters.fetching import Progress, fetch_all, missing_from
from rhizon.adapters.http import Limits, Network
from rhizon.adapters.store import Store
from rhizon.app.instance.server_tree import file_tree, piecewise
from rhizon.core.errors import InputError, RemoteError, RhizonError, StateError, TrustError
from rhizon.core.model.decode import encode_json
from rhizon.core.model.lock import LockedFile
from rhizon.core.model.tree import PIECE_SIZE
from rhizon.core.names import RelPath
from tests.support import Case

HERE = Path()
BODY = os.urandom(1 << 12) * 500  # long enough to be kept when a part of it came
QUICK = Limits(
    connect_seconds=2, answer_seconds=1.5, stall_seconds=0.4, slow_seconds=0.8, tries=3, pause_seconds=0.01,
    longest_pause_seconds=1,
)  # fmt: skip
ROOT = '{"format": "rhizon-catalog/1", "name": "odd", "games": {}, "mirrors": [%s]}'


def promised(body: bytes = BODY, path: str = "f.jar") -> LockedFile:
    return LockedFile(catalog="odd", path=RelPath(path), sha256=hashlib.sha256(body).hexdigest(), size=len(body))


class Handler(BaseHTTPRequestHandler):
    """Answers what is asked for as the class attribute says, and a small honest catalog.json."""

    how: Callable[["Handler"], None]
    asked: list[tuple[str, dict[str, str]]]
    mirrors = ""

    def do_GET(self) -> None:
        if self.path.endswith("catalog.json"):
            self.send(200, (ROOT % self.mirrors).encode())
        else:
            self.asked.append((self.path, {name.lower(): value for name, value in self.headers.items()}))
            type(self).how(self)

    @property
    def times(self) -> int:
        return len(self.asked)

    def send(self, status: int, body: bytes, length: object = None, **headers: str) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name.replace("_", "-"), value)
        self.send_header("Content-Length", str(len(body) if length is None else length))
        self.end_headers()
        self.wfile.write(body)

    def ranged(self, tag: str = '"one"', breaks: int = 0) -> None:
        """An honest answer to a range; the first ``breaks`` times the connection is cut in the middle."""
        begin = int(self.headers.get("Range", "bytes=0-")[6:-1])
        fits = begin and self.headers.get("If-Range", tag) == tag
        body = BODY[begin:] if fits else BODY
        sent = body[: len(body) // 2] if self.times <= breaks else body
        extra = {"Content_Range": f"bytes {begin}-{len(BODY) - 1}/{len(BODY)}"} if fits else {}
        self.send(206 if fits else 200, sent, length=len(body), ETag=tag, **extra)

    def log_message(self, format: str, *args: object) -> None:
        pass


def busy(times: int, wait: str) -> Callable[[Handler], None]:
    return lambda h: h.send(429, b"later", Retry_After=wait) if h.times <= times else h.send(200, BODY)


def redirect(target: str) -> Callable[[Handler], None]:
    return lambda handler: handler.send(302, b"", Location=target)


def stall(handler: Handler) -> None:
    handler.send(200, BODY[:1000], length=len(BODY))
    handler.wfile.flush()
    time.sleep(0.8)


def endless(handler: Handler) -> None:
    handler.send_response(200)
    handler.end_headers()
    for _ in range(10_000):
        handler.wfile.write(b"x" * (1 << 20))


def drip(begin: bytes, piece: bytes) -> Callable[[Handler], None]:
    """Bytes one by one, so that no wait for one of them is ever too long."""

    def answer(handler: Handler) -> None:
        handler.close_connection = True
        with contextlib.suppress(OSError):
            handler.wfile.write(begin)
            for _ in range(200):
                handler.wfile.write(piece)
                time.sleep(0.05)

    return answer


SLOW_BODY = b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n" % len(BODY)


def another_part(handler: Handler) -> None:
    if handler.times == 1:
        handler.ranged(breaks=1)
    else:
        handler.send(206, BODY[7:], Content_Range=f"bytes 7-{len(BODY) - 1}/{len(BODY)}")


# how the server answers -> the error's class and code (None: all is well), and how often it may be asked
ANSWERS: tuple[tuple[str, Callable[[Handler], None], type[RhizonError] | None, str, int], ...] = (
    ("honest", lambda h: h.send(200, BODY), None, "", 1),
    ("busy twice", busy(2, "0"), None, "", 3),
    ("busy for a day", busy(9, "86400"), RemoteError, "catalog-incomplete", 1),
    ("busy until some date", busy(9, "Fri, 01 Jan 2100 00:00:00 GMT"), RemoteError, "catalog-incomplete", 1),
    ("cut twice", lambda h: h.ranged(breaks=2), None, "", 3),
    ("cut each time, and further each time", lambda h: h.ranged(breaks=5), None, "", 6),
    ("another file after the cut", lambda h: h.ranged(tag=f'"{min(h.times, 2)}"', breaks=1), None, "", 2),
    ("another part after the cut", another_part, RemoteError, "catalog-incomplete", 2),
    ("wrong bytes", lambda h: h.send(200, BODY[::-1]), TrustError, "hash-mismatch", 1),
    ("too long", lambda h: h.send(200, BODY + b"more"), TrustError, "hash-mismatch", 1),
    ("ten gigabytes promised", lambda h: h.send(200, BODY, length=10 << 30), TrustError, "hash-mismatch", 1),
    ("ten gigabytes sent", endless, TrustError, "hash-mismatch", 1),
    ("too short", lambda h: h.send(200, BODY[:-1]), TrustError, "hash-mismatch", 1),
    ("cut at once", lambda h: h.send(200, b"", length=len(BODY)), RemoteError, "catalog-unreachable", 3),
    ("stalled", stall, RemoteError, "catalog-unreachable", 6),
    ("gone", lambda h: h.send(404, b"no"), RemoteError, "catalog-incomplete", 1),
    ("forbidden", lambda h: h.send(403, b"no"), RemoteError, "catalog-forbidden", 1),
    ("always broken", lambda h: h.send(500, b"no"), RemoteError, "catalog-incomplete", 3),
    ("elsewhere", redirect("ftp://127.0.0.1/f.jar"), TrustError, "bad-redirect", 1),
    ("to a file", redirect("file:///etc/passwd"), TrustError, "bad-redirect", 1),
    ("in a circle", redirect("/f.jar"), RemoteError, "redirect-loop", 6),
    ("to no port", redirect("http://127.0.0.1:70000/"), TrustError, "bad-redirect", 1),
    ("to a name that is none", redirect("http://[::1/f.jar"), TrustError, "bad-redirect", 1),
    ("a header without end", drip(b"HTTP/1.1 200 OK\r\nX: ", b"x"), RemoteError, "catalog-unreachable", 6),
    ("interim answers", drip(b"", b"HTTP/1.1 100 Continue\r\n\r\n"), RemoteError, "catalog-unreachable", 6),
    ("a body in drops", drip(SLOW_BODY, b"x"), RemoteError, "catalog-incomplete", 6),
    ("a length that is none", lambda h: h.send(200, BODY, length="1e9"), None, "", 1),
    ("hung up", lambda h: h.connection.shutdown(socket.SHUT_RDWR), RemoteError, "catalog-unreachable", 3),
)


@contextmanager
def odd_server(
    how: Callable[[Handler], None], mirrors: str = "", secured: ssl.SSLContext | None = None
) -> Iterator[tuple[str, list[tuple[str, dict[str, str]]]]]:
    kind = type("Odd", (Handler,), {"how": staticmethod(how), "asked": [], "mirrors": mirrors})
    server = ThreadingHTTPServer(("127.0.0.1", 0), kind)
    server.handle_error = lambda *_: None  # type: ignore[method-assign]
    if secured is not None:
        server.socket = secured.wrap_socket(server.socket, server_side=True)
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02})
    thread.start()
    try:
        yield f"http{'s' if secured else ''}://127.0.0.1:{server.server_port}", kind.asked
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


class Fetching(Case):
    def fetch(self, url: str, store: Store, *files: LockedFile, network: Network | None = None) -> int:
        network = network or Network(limits=QUICK)
        return fetch_all(open_catalogs((url,), HERE, network), files or (promised(),), store, lambda _: None)

    def test_answers(self) -> None:
        for what, how, error, code, most in ANSWERS:
            with self.subTest(what), odd_server(how) as (url, asked):
                store = Store(self.folder / what.replace(" ", "-"))
                try:
                    self.assertEqual(self.fetch(url, store, promised(), promised()), 1)
                    self.assertIsNone(error)
                    self.assertEqual(store.read(promised().sha256, "f"), BODY)
                    self.assertEqual(list(store.left_over()), [])
                except RhizonError as wrong:
                    self.assertIsNotNone(error, wrong)
                    self.assertEqual((type(wrong), wrong.code), (error, code))
                    self.assertEqual(missing_from(store, [promised()]), [promised()])
                self.assertLessEqual(len(asked), most)
                self.assertLessEqual(sum(one.size for one in store.left_over()), len(BODY))

    def test_the_next_command_goes_on_where_the_last_one_broke(self) -> None:
        store = Store(self.folder / "store")
        with (
            odd_server(lambda h: h.send(200, BODY[:1500000], length=len(BODY))) as (url, _),
            self.assertRaises(RemoteError),
        ):
            self.fetch(url, store, network=Network(limits=QUICK._replace(tries=1)))
        self.assertEqual([one.size for one in store.left_over()], [1500000])
        with odd_server(Handler.ranged) as (url, asked):
            self.fetch(url, store)
        self.assertEqual([headers["range"] for _, headers in asked], ["bytes=1500000-"])
        self.assertEqual(list(store.left_over()), [])
        store.drop(promised().sha256)
        (self.folder / "store" / f"incoming-{promised().sha256}").write_bytes(b"of something else")
        with odd_server(Handler.ranged) as (url, asked):
            self.fetch(url, store)
        self.assertEqual([headers.get("range") for _, headers in asked], ["bytes=17-", None])

    def test_two_commands_at_once_do_not_write_into_one_file(self) -> None:
        patient = {"network": Network(limits=QUICK._replace(stall_seconds=20))}
        store = Store(self.folder / "store")
        with odd_server(lambda h: (time.sleep(0.2), h.send(200, BODY))) as (url, _):  # type: ignore[arg-type, return-value]
            threads = [threading.Thread(target=self.fetch, args=(url, store), kwargs=patient) for _ in range(3)]
            for one in threads:
                one.start()
            for one in threads:
                one.join()
        self.assertEqual(store.read(promised().sha256, "f"), BODY)
        self.assertEqual(list(store.left_over()), [])

    def test_mirrors_in_order(self) -> None:
        store = Store(self.folder / "store")
        with (
            odd_server(lambda h: h.send(404, b"")) as (gone, first),
            odd_server(lambda h: h.send(200, BODY)) as (good, second),
            odd_server(lambda h: h.send(200, BODY[::-1]), f'"ftp://x", "{gone}", "{good}"') as (wrong, _),
        ):
            self.fetch(wrong, store)
            self.assertEqual((len(first), len(second)), (1, 1))
        self.assertEqual(store.read(promised().sha256, "f"), BODY)

    def test_what_is_in_the_store_is_not_asked_for_and_offline_asks_nobody(self) -> None:
        with odd_server(lambda h: h.send(500, b"")) as (url, asked):
            store = Store(self.folder / "store")
            store.add(BODY)
            self.assertEqual(self.fetch(url, store), 0)
            self.assertEqual(asked, [])

    def test_no_more_connections_than_allowed_and_progress_that_adds_up(self) -> None:
        bodies = [os.urandom(2000) for _ in range(40)]
        at_once: list[int] = []
        running = 0
        guard = threading.Lock()

        def slowly(handler: Handler) -> None:
            nonlocal running
            with guard:
                running += 1
                at_once.append(running)
            time.sleep(0.02)
            with guard:
                running -= 1
            handler.send(200, bodies[int(handler.path[1:])])

        told: list[Progress] = []
        with odd_server(slowly) as (url, _):
            network = Network(limits=QUICK._replace(connections=4))
            files = [promised(body, str(number)) for number, body in enumerate(bodies)]
            fetch_all(open_catalogs((url,), HERE, network), files, Store(self.folder / "store"), told.append)
        self.assertEqual(max(at_once), 4)
        self.assertEqual((told[-1].files, told[-1].bytes, told[-1].part), (40, 80_000, 1.0))
        self.assertIn("40 of 40 files, 80.0 kB of 80.0 kB", told[-1].text)

    def test_a_full_disk(self) -> None:
        mount = self.folder / "small"
        mount.mkdir()
        if subprocess.run(
            ["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", str(mount)], capture_output=True
        ).returncode:
            self.skipTest("this machine does not allow to mount")
        self.addCleanup(subprocess.run, ["umount", str(mount)], check=True)
        with odd_server(lambda h: h.send(200, BODY)) as (url, _), self.assertRaises(StateError) as caught:
            self.fetch(url, Store(mount / "store"))
        self.assertEqual(caught.exception.code, "disk-full")

    def test_a_damaged_store_file_is_found_and_dropped(self) -> None:
        store = Store(self.folder / "store")
        path = store.path(store.add(BODY))
        path.chmod(0o644)
        path.write_bytes(BODY[::-1])
        with self.assertRaises(TrustError):
            store.read(promised().sha256, "f")
        self.assertFalse(path.exists())


class Trees(Case):
    def test_of_a_long_file_only_the_pieces_that_differ_come(self) -> None:
        whole = os.urandom(PIECE_SIZE)
        old = b"".join(bytes([number]) + whole[1:] for number in range(5)) + b"end"
        new = old[: PIECE_SIZE + 7] + b"!" + old[PIECE_SIZE + 8 : -3] + b"another end"
        store = Store(self.folder / "store")
        trees = []
        for name, body in (("old", old), ("new", new)):
            self.write(f"{name}/data/ground.bin", body)
            self.write(f"{name}/tool.sh", "#!/bin/sh\n").chmod(0o755)
            trees.append(file_tree(self.folder / name))
        store.add(old)
        document = encode_json(trees[0])
        lock = mock.Mock(server_tree="old", server=promised(document, "old.json"))
        store.add(document)
        known = piecewise(store, trees[1], [lock])
        file = promised(new, "data/ground.bin")
        self.assertEqual(list(known), [file.sha256])

        def ranged(handler: Handler) -> None:
            begin = int(handler.headers.get("Range", "bytes=0-")[6:-1])
            extra = {"Content_Range": f"bytes {begin}-{len(new) - 1}/{len(new)}"}
            handler.send(206 if begin else 200, new[begin:], **extra if begin else {})

        for how, begins in ((ranged, [f"bytes={PIECE_SIZE}-", f"bytes={5 * PIECE_SIZE}-"]),
                            (lambda h: h.send(200, new), [f"bytes={PIECE_SIZE}-"])):  # fmt: skip
            with odd_server(how) as (url, asked):
                catalogs = open_catalogs((url,), HERE, Network(limits=QUICK))
                self.assertEqual(fetch_all(catalogs, [file], store, lambda _: None, known), 1)
            self.assertEqual([headers.get("range") for _, headers in asked], begins)
            self.assertEqual(store.read(file.sha256, "f"), new)
            store.drop(file.sha256)
        path = store.path(trees[0].files["data/ground.bin"].sha256)
        path.chmod(0o644)
        path.write_bytes(bytes(len(old)))  # what was here is damaged: all of it comes
        with odd_server(ranged) as (url, _):
            fetch_all(open_catalogs((url,), HERE, Network(limits=QUICK)), [file], store, lambda _: None, known)
        self.assertEqual(store.read(file.sha256, "f"), new)

    def test_links_are_no_server_files(self) -> None:
        self.write("t/a", "a")
        (self.folder / "t/b").symlink_to("/etc/passwd")
        with self.assertRaises(InputError):
            file_tree(self.folder / "t")


class Secrets(Case):
    def credentials(self, text: str, mode: int = 0o600, **environment: str) -> Credentials:
        file = self.write("credentials.toml", f'format = "rhizon-credentials/1"\n{text}')
        file.chmod(mode)
        return Credentials(file, environment)

    def test_who_we_are_is_told_to_the_right_one_only(self) -> None:
        store = Store(self.folder / "store")
        with (
            odd_server(lambda h: h.send(200, BODY)) as (other, told_other),
            odd_server(redirect(f"{other}/elsewhere")) as (url, told),
        ):
            own = self.credentials(f'[[catalog]]\naddress = "{url}"\nuser = "marit"\npassword = "sesame"\n')
            fetch_all(open_catalogs((url,), HERE, Network(None, own)), [promised()], store, lambda _: None)
        self.assertEqual(told[0][1]["authorization"], "Basic bWFyaXQ6c2VzYW1l")
        self.assertNotIn("authorization", told_other[0][1])

    def test_rows(self) -> None:
        token = '[[catalog]]\naddress = "https://shelf.example/marsh/"\ntoken = "sesame"\n'
        clear = token.replace("https", "http")
        rows: tuple[tuple[str, int, dict[str, str], str, str | None], ...] = (
            (token, 0o600, {}, "https://shelf.example/marsh/a.jar", "Bearer sesame"),
            (token, 0o600, {}, "https://shelf.example/marshland/a.jar", None),
            (token, 0o600, {}, "https://other.example/marsh/a.jar", None),
            ("", 0o600, {"RHIZON_TOKEN_SHELF_EXAMPLE_8443": "reed"}, "https://shelf.example:8443/a", "Bearer reed"),
            (token, 0o644, {}, "https://shelf.example/marsh/a.jar", "secret-readable"),
            (clear, 0o600, {}, "http://shelf.example/marsh/a.jar", "secret-in-clear"),
            (token.replace("token", "password"), 0o600, {}, "https://shelf.example/marsh/a", "bad-document"),
        )
        for text, mode, environment, url, expected in rows:
            with self.subTest(url=url, expected=expected):
                try:
                    header = self.credentials(text, mode, **environment).header_for(url).get("Authorization")
                except InputError as wrong:
                    self.assertNotIn("sesame", wrong.message + wrong.hint)
                    header = wrong.code
                self.assertEqual(header, expected)

    def test_certificates_and_proxies_of_the_environment(self) -> None:
        if shutil.which("openssl") is None:
            self.skipTest("openssl is not on this machine")
        pem = self.folder / "own.pem"
        subprocess.run(
            ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=127.0.0.1",
             "-addext", "subjectAltName=IP:127.0.0.1", "-keyout", str(pem), "-out", str(self.folder / "own.crt")],
            check=True, capture_output=True,
        )  # fmt: skip
        secured = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        secured.load_cert_chain(self.folder / "own.crt", pem)
        with odd_server(lambda h: h.send(200, BODY), secured=secured) as (url, _):
            with self.assertRaises(RemoteError) as caught:
                open_catalogs((url,), HERE, Network(limits=QUICK))
            self.assertIn("certificate", caught.exception.details[0].lower())
            with mock.patch.dict(os.environ, {"SSL_CERT_FILE": str(self.folder / "own.crt")}):
                open_catalogs((url,), HERE, Network(limits=QUICK))
        with odd_server(lambda h: h.send(200, BODY)) as (proxy, asked):
            with mock.patch.dict(os.environ, {"http_proxy": proxy, "no_proxy": ""}):
                catalogs = open_catalogs(("http://shelf.invalid",), HERE, Network(limits=QUICK))
                fetch_all(catalogs, [promised()], Store(self.folder / "store"), lambda _: None)
            self.assertEqual(asked[0][0], "http://shelf.invalid/f.jar")

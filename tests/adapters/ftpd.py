"""An FTP server with the manners of real hosts: python -W ignore -m tests.adapters.ftpd ROOT PEM|- [MANNER...]

PEM is a key and its certificate for TLS, a dash for none. Manners:

    no-mlsd         folders are listed by LIST alone
    dos, latin      so that LIST looks as on other systems, with months in another language and encoding
    no-rename-over  renames over no file
    hash            knows HASH (the IETF's draft) and XSHA256
    quota=N         takes N bytes in all, then answers 552
    drop=N          closes both connections once, after N bytes of an upload
    short=N         keeps N bytes of a file and says that all is well
    idle=N          closes a connection that was idle for N seconds
    passive=IP      names a wrong address for data connections
    implicit        TLS from the first byte

A folder named locked cannot be listed. Prints its port on loopback; the user is tove, and the password moonlit-fen.
"""

import hashlib
import logging
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from pyftpdlib import authorizers, filesystems, handlers, servers


class _Received:
    """What all uploads of this server brought."""

    whole = 0
    dropped = False


def _upload(base: Any, manners: dict[str, str]) -> Any:
    class Upload(base):  # type: ignore[misc]
        def handle_read_event(self) -> None:
            before = self.tot_bytes_received
            file = self.file_obj
            if "short" in manners and file is not None and not isinstance(file, _Short):
                self.file_obj = _Short(file, int(manners["short"]))
            super().handle_read_event()
            _Received.whole += self.tot_bytes_received - before
            if "quota" in manners and _Received.whole > int(manners["quota"]):
                self._resp = ("552 Quota exceeded.", logging.info)
                self.close()
            if "drop" in manners and not _Received.dropped and self.tot_bytes_received > int(manners["drop"]):
                _Received.dropped = True
                channel = self.cmd_channel
                self.close()
                channel.close()

    return Upload


class _Short:
    """A file that keeps only so many bytes."""

    def __init__(self, file: Any, most: int) -> None:
        self._file, self._left = file, most

    def write(self, data: bytes) -> int:
        self._file.write(data[: self._left])
        self._left = max(0, self._left - len(data))
        return len(data)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)


def _lines(manners: dict[str, str], folder: str, names: list[str]) -> Iterator[bytes]:
    """LIST as another system says it."""
    for name in names:
        path = Path(folder, name)
        size, is_folder = path.stat().st_size, path.is_dir()
        if "dos" in manners:
            what = "<DIR>         " if is_folder else f"{size:14}"
            yield f"11-28-26  08:27PM {what:>20} {name}\r\n".encode()
        else:
            head = f"{'d' if is_folder else '-'}rw-r--r--   1 tove crew {size:12} "
            yield head.encode() + "févr 28 20:27 ".encode("latin-1") + name.encode() + b"\r\n"


def main(root: str, pem: str, *words: str) -> None:
    manners = dict(word.partition("=")[::2] for word in words)
    base: Any = handlers.FTPHandler if pem == "-" else handlers.TLS_FTPHandler

    class Files(filesystems.AbstractedFS):  # type: ignore[misc]
        def rename(self, src: str, dst: str) -> None:
            if "no-rename-over" in manners and Path(dst).exists():
                raise filesystems.FilesystemError("File exists.")
            super().rename(src, dst)

        def listdir(self, path: str) -> list[str]:
            if Path(path).name == "locked":
                raise PermissionError(13, "Permission denied")
            found: list[str] = super().listdir(path)
            return found

        def format_list(self, basedir: str, listing: list[str], ignore_err: bool = True) -> Any:
            if manners.keys() & {"dos", "latin"}:
                return _lines(manners, basedir, listing)
            return super().format_list(basedir, listing, ignore_err)

    class Handler(base):  # type: ignore[misc]
        abstracted_fs = Files
        authorizer = authorizers.DummyAuthorizer()
        banner = "an ftp server"
        proto_cmds = {
            name: said for name, said in base.proto_cmds.items() if "no-mlsd" not in manners or name[:3] != "MLS"
        }
        timeout = float(manners.get("idle", 300))
        dtp_handler = _upload(base.dtp_handler, manners)

        def handle(self) -> None:
            if "implicit" in manners:
                self.secure_connection(self.ssl_context)
            else:
                super().handle()

        def handle_ssl_established(self) -> None:
            if "implicit" in manners:
                super().handle()

        def ftp_FEAT(self, line: str) -> None:  # noqa: N802
            if "hash" in manners:
                self._extra_feats = [*self._extra_feats, "HASH SHA-1;SHA-256*", "XSHA256"]
            super().ftp_FEAT(line)

        def ftp_HASH(self, path: str) -> None:  # noqa: N802
            if not Path(path).is_file():
                self.respond("550 No such file.")
                return
            digest = hashlib.sha256(Path(path).read_bytes()).hexdigest()
            self.respond(f"213 SHA-256 0-{Path(path).stat().st_size} {digest} {path}")

        def ftp_OPTS(self, line: str) -> None:  # noqa: N802
            self.respond("200 SHA-256")

    if "hash" in manners:
        Handler.proto_cmds["HASH"] = {"perm": "r", "auth": True, "arg": True, "help": "HASH"}
    if "passive" in manners:
        Handler.masquerade_address = manners["passive"]
    Handler.authorizer.add_user("tove", "moonlit-fen", root, perm="elradfmwMT")
    if pem != "-":
        Handler.certfile = pem
        Handler.tls_control_required = Handler.tls_data_required = True
    logging.getLogger("pyftpdlib").setLevel(logging.CRITICAL)
    server = servers.ThreadedFTPServer(("127.0.0.1", 0), Handler)
    print(server.socket.getsockname()[1], flush=True)
    server.serve_forever()


if __name__ == "__main__":
    main(*sys.argv[1:])

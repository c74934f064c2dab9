"""An FTP server with the manners of real hosts: python -W ignore -m tests.adapters.ftpd ROOT PEM|- plain|awkward

PEM is a key and its certificate for TLS, a dash for none. An awkward one knows no MLSD and renames over no file.
A folder named locked cannot be listed.
Prints its port on loopback; the user is tove, and the password moonlit-fen.
"""

import logging
import sys
from pathlib import Path
from typing import Any

from pyftpdlib import authorizers, filesystems, handlers, servers


def main(root: str, pem: str, manner: str) -> None:
    awkward = manner == "awkward"
    base: Any = handlers.FTPHandler if pem == "-" else handlers.TLS_FTPHandler

    class Files(filesystems.AbstractedFS):  # type: ignore[misc]
        def rename(self, src: str, dst: str) -> None:
            if awkward and Path(dst).exists():
                raise filesystems.FilesystemError("File exists.")
            super().rename(src, dst)

        def listdir(self, path: str) -> list[str]:
            if Path(path).name == "locked":
                raise PermissionError(13, "Permission denied")
            found: list[str] = super().listdir(path)
            return found

    class Handler(base):  # type: ignore[misc]
        abstracted_fs = Files
        authorizer = authorizers.DummyAuthorizer()
        banner = "an ftp server"
        proto_cmds = {name: said for name, said in base.proto_cmds.items() if not awkward or name[:3] != "MLS"}

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

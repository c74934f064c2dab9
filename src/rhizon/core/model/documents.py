"""The table of all documents: one line each; the schemas, the docs and the tests run over it."""

from collections.abc import Mapping
from typing import Any, Literal, NamedTuple, TypeVar

import msgspec

from rhizon.core.errors import DocumentError, Mistake
from rhizon.core.model import (
    backup,
    catalog,
    contentlist,
    credentials,
    game,
    host,
    instance,
    kept,
    kit,
    lock,
    machines,
    pack,
    preset,
    remote,
    tree,
)
from rhizon.core.model.base import Strict, schema_hook
from rhizon.core.model.decode import decode_json, decode_toml
from rhizon.core.secret import HIDDEN

__all__ = ["DOCUMENTS", "Document", "decode", "schema"]


class Document(NamedTuple):
    """One kind of document: its name in files, its type, how it is written, what people call it. What is wrong in a
    ``secret`` one is reported without its values."""

    name: str
    type: type[Strict]
    syntax: Literal["toml", "json"]
    what: str
    secret: bool = False


DOCUMENTS = (
    Document("game", game.GameDefinition, "toml", "game definition"),
    Document("list", contentlist.ContentList, "toml", "content list"),
    Document("pack", pack.Pack, "toml", "pack"),
    Document("shelf", catalog.Shelf, "toml", "shelf"),
    Document("facts", catalog.ReleaseFacts, "toml", "facts file"),
    Document("catalog", catalog.CatalogRoot, "json", "catalog root"),
    Document("index", catalog.ItemIndex, "json", "catalog index"),
    Document("item", catalog.Item, "json", "catalog item"),
    Document("host-files", catalog.HostFiles, "json", "catalog host file"),
    Document("tree", tree.FileTree, "json", "file tree"),
    Document("lock", lock.Lock, "json", "lock"),
    Document("remote", remote.RemoteDefinition, "toml", "remote file"),
    Document("machines", machines.MachinesFile, "toml", "machines file"),
    Document("push", remote.PushRecord, "json", "record of a push"),
    Document("push-mark", remote.PushMark, "json", "mark of a push"),
    Document("push-undo", remote.PushUndo, "json", "way back from a push"),
    Document("kit", kit.KitManifest, "json", "kit manifest"),
    Document("inventory", instance.Inventory, "json", "inventory"),
    Document("instance", instance.Instance, "toml", "instance file"),
    Document("kept", kept.KeptState, "json", "kept state"),
    Document("backup", backup.Backup, "json", "backup"),
    Document("host", host.HostLimits, "toml", "host file"),
    Document("preset", preset.SettingsPreset, "toml", "settings preset"),
    Document("credentials", credentials.CredentialsFile, "toml", "credentials file", secret=True),
    Document("sealed", backup.SealedHead, "json", "head of an encrypted backup"),
    Document("backups", backup.BackupLinks, "json", "backup record"),
)


T = TypeVar("T", bound=Strict)


def decode(kind: type[T], data: bytes, source: str, base: Mapping[str, Any] | None = None) -> T:
    """Bytes of ``source`` as the document ``kind``; of one that people write, put together with the ``base`` that it
    changes. Raises :class:`DocumentError`."""
    document = next(one for one in DOCUMENTS if one.type is kind)
    try:
        if document.syntax == "toml":
            return decode_toml(kind, data, source, document.what, base)
        return decode_json(kind, data, source, document.what)
    except DocumentError as wrong:
        if not document.secret:
            raise
        hidden = [Mistake(one.place, HIDDEN if one.value else "", one.right, one.line) for one in wrong.mistakes]
    raise DocumentError(source, document.what, hidden)


def schema(document: Document) -> dict[str, Any]:
    """The JSON Schema (2020-12) of a document."""
    made = msgspec.json.schema(document.type, schema_hook=schema_hook)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": document.what, **made}

"""Documents of ours as TOML text: people may read and edit it."""

from collections.abc import Sequence

import msgspec

from rhizon.core.model.base import Strict, enc_hook
from rhizon.core.model.contentlist import ContentList
from rhizon.core.model.instance import Instance
from rhizon.core.model.remote import Probed, RemoteDefinition

__all__ = ["content_list_toml", "instance_toml", "remote_toml", "with_probed"]

_ALWAYS = ("note",)


def instance_toml(instance: Instance) -> str:
    """The whole file; plain values stand before the tables."""
    return _toml(["How this server is run. Written by rhizon; secrets are not kept here."], instance)


def content_list_toml(wanted: ContentList, notes: Sequence[str] = ()) -> str:
    """A content list whole, without what it says nothing of; ``notes`` are comments at its head."""
    return _toml(["What a server was made from, as a content list. Written by rhizon.", *notes], wanted)


def remote_toml(remote: RemoteDefinition) -> str:
    """A rented server's definition."""
    return _toml(["How a rented server is reached, and what its host dictates: rhizon help formats."], remote)


def with_probed(text: str, probed: Probed) -> str:
    """A remote's file with what a probe found out; all else, comments too, stays."""
    import tomlkit

    document = tomlkit.parse(text)
    table = tomlkit.table()
    for name, value in msgspec.to_builtins(probed).items():
        if value is not None:
            table.add(name, value)
    if "probed" in document:
        document["probed"] = table
    else:
        document.add("probed", table)
    made = tomlkit.dumps(document)
    return made if made.endswith("\n") else f"{made}\n"


def _toml(comments: Sequence[str], document: Strict) -> str:
    """A document as TOML without what is empty."""
    import tomlkit  # only commands that write need it

    made = tomlkit.document()
    for comment in comments:
        made.add(tomlkit.comment(comment))
    plain = msgspec.to_builtins(document, enc_hook=enc_hook)
    for name in [name for name, value in plain.items() if value is None or (name not in _ALWAYS and value in ("", []))]:
        del plain[name]
    for value in plain.get("content", {}).values():
        for name in [name for name, part in value.items() if part is None] if isinstance(value, dict) else ():
            del value[name]
    for tables in (False, True):
        for name, value in plain.items():
            if isinstance(value, dict) is tables and value != {}:
                made.add(name, tomlkit.item(value))
    return tomlkit.dumps(made)

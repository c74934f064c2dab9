"""Documents of ours as TOML text: people may read and edit it."""

from collections.abc import Sequence

import msgspec

from rhizon.core.model.base import Strict, enc_hook
from rhizon.core.model.contentlist import ContentList
from rhizon.core.model.instance import Instance
from rhizon.core.model.remote import RemoteDefinition

__all__ = ["content_list_toml", "instance_toml", "remote_toml"]

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

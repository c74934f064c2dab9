"""``instance.toml`` as text: people may read and edit it."""

import msgspec

from rhizon.core.model.base import enc_hook
from rhizon.core.model.instance import Instance

__all__ = ["instance_toml"]


def instance_toml(instance: Instance) -> str:
    """The whole file; plain values stand before the tables."""
    import tomlkit  # only commands that write need it

    made = tomlkit.document()
    made.add(tomlkit.comment("How this server is run. Written by rhizon; secrets are not kept here."))
    plain = msgspec.to_builtins(instance, enc_hook=enc_hook)
    for tables in (False, True):
        for name, value in plain.items():
            if isinstance(value, dict) is tables and value != {}:
                made.add(name, tomlkit.item(value))
    return tomlkit.dumps(made)

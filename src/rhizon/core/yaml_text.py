"""Plain data as YAML that people read."""

from collections.abc import Sequence
from typing import Any

__all__ = ["to_yaml"]


def to_yaml(documents: Sequence[Any]) -> str:
    """Documents as YAML, keys in the order in which they are; texts of several lines as blocks."""
    import yaml

    class Dumper(yaml.SafeDumper):
        def ignore_aliases(self, _data: Any) -> bool:
            return True

    def text(dumper: yaml.SafeDumper, value: str) -> yaml.Node:
        return dumper.represent_scalar("tag:yaml.org,2002:str", value, style="|" if "\n" in value else None)

    Dumper.add_representer(str, text)
    return yaml.dump_all(documents, Dumper=Dumper, sort_keys=False, allow_unicode=True, width=110)

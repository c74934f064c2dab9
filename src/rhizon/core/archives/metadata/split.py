"""Lists in one string."""

from rhizon.core.model.metadata import MetadataRule

__all__ = ["split_pairs"]


def split_pairs(text: str, rule: MetadataRule) -> list[tuple[str, str]]:
    """``one 1.2; other`` as ids with ranges, under the separators of a rule."""
    pairs = []
    for part in text.split(rule.list_separator):
        name, _, wanted = part.strip().partition(rule.pair_separator)
        if name.strip():
            pairs.append((name.strip(), wanted.strip()))
    return pairs

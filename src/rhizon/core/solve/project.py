"""One item as a variable of the search: bit 0 is "absent", then its releases from oldest to newest."""

from rhizon.core.model.catalog import Item, Release
from rhizon.core.version import VersionRange

__all__ = ["ABSENT", "Project"]

ABSENT = 1


class Project:
    """Releases as bits, and ranges as masks of them."""

    def __init__(self, name: str, item: Item | None) -> None:
        self.name = name
        self.releases: tuple[Release, ...] = (
            tuple(sorted(item.releases, key=lambda one: one.version)) if item is not None else ()
        )
        self.full = (1 << (len(self.releases) + 1)) - 1
        self.var = -1
        self._masks: dict[str, int] = {"*": self.full & ~ABSENT}

    def mask(self, wanted: VersionRange) -> int:
        """The releases that a range admits."""
        found = self._masks.get(wanted.text)
        if found is None:
            found = sum(2 << at for at, one in enumerate(self.releases) if wanted.admits(one.version))
            self._masks[wanted.text] = found
        return found

    def release(self, bit: int) -> Release:
        """The release of a mask with one bit."""
        return self.releases[bit.bit_length() - 2]

    def versions(self, mask: int) -> tuple[str, ...]:
        """The releases of a mask in words, oldest first."""
        return tuple(one.version.text for at, one in enumerate(self.releases) if mask & (2 << at))

    def providing(self, wanted: str, admitted: VersionRange, *, embedded: bool) -> int:
        """The releases that stand in for another id in a range; what they merely carry inside only if so asked.
        An item never stands in for itself."""
        if wanted == self.name:
            return 0
        return sum(2 << at for at, one in enumerate(self.releases) if _gives(one, wanted, admitted, embedded=embedded))


def _gives(release: Release, wanted: str, admitted: VersionRange, *, embedded: bool) -> bool:
    given = (*release.provides, *release.embeds) if embedded else release.provides
    return any(one.id == wanted and admitted.admits(one.version) for one in given)

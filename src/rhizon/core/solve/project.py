"""One item as a variable of the search: bit 0 is "absent", then its releases from oldest to newest."""

from bisect import bisect_left, bisect_right

from rhizon.core.model.catalog import Item, Release
from rhizon.core.version import Comparator, VersionRange

__all__ = ["ABSENT", "Project", "gives"]

ABSENT = 1


class Project:
    """Releases as bits, and ranges as masks of them. ``item`` has its releases newest first."""

    def __init__(self, name: str, item: Item | None) -> None:
        self.name = name
        self.releases: tuple[Release, ...] = tuple(reversed(item.releases)) if item is not None else ()
        self._keys = [one.version.key for one in self.releases]
        self.full = (1 << (len(self.releases) + 1)) - 1
        self.var = -1
        # every id that some release stands in for: mostly none, and then nothing need be looked at
        self.given = {one.id for release in self.releases for one in (*release.provides, *release.embeds)} - {name}
        self._masks: dict[str, int] = {"*": self.full & ~ABSENT}

    def mask(self, wanted: VersionRange) -> int:
        """The releases that a range admits."""
        found = self._masks.get(wanted.text)
        if found is None:
            found = self.full & ~ABSENT
            for one in wanted.comparators:
                found &= self._compared(one)
            self._masks[wanted.text] = found
        return found

    def _compared(self, one: Comparator) -> int:
        """The releases that one comparator admits: a run of the sorted ones, found by bisection."""
        bound = one.version
        if bound.build:  # rare: builds of one version are told apart
            return sum(2 << at for at, release in enumerate(self.releases) if one.admits(release.version))
        low, high = 0, len(self._keys)
        match one.op:
            case ">=":
                low = bisect_left(self._keys, bound.key)
            case ">":
                low = bisect_right(self._keys, bound.key)
            case "<":
                # "<2" is never meant to let 2-preview in: the run ends before the first of its previews
                high = bisect_left(self._keys, bound.key if bound.pre else (bound.key[0], (0,)))
            case "<=":
                high = bisect_right(self._keys, bound.key)
            case "!=":
                return self.full & ~ABSENT & ~self._compared(Comparator("=", bound))
            case _:
                low, high = bisect_left(self._keys, bound.key), bisect_right(self._keys, bound.key)
        return ((1 << high) - (1 << low)) << 1 if high > low else 0

    def release(self, bit: int) -> Release:
        """The release of a mask with one bit."""
        return self.releases[bit.bit_length() - 2]

    def versions(self, mask: int) -> tuple[str, ...]:
        """The releases of a mask in words, oldest first."""
        return tuple(one.version.text for at, one in enumerate(self.releases) if mask & (2 << at))

    def providing(self, wanted: str, admitted: VersionRange, *, embedded: bool) -> int:
        """The releases that stand in for another id in a range; what they merely carry inside only if so asked.
        An item never stands in for itself."""
        if wanted not in self.given:
            return 0
        return sum(2 << at for at, one in enumerate(self.releases) if gives(one, wanted, admitted, embedded=embedded))


def gives(release: Release, wanted: str, admitted: VersionRange, *, embedded: bool) -> bool:
    """Whether a release stands in for an item in a range: it says so, or, where that counts, carries it inside."""
    given = (*release.provides, *release.embeds) if embedded else release.provides
    return any(one.id == wanted and admitted.admits(one.version) for one in given)

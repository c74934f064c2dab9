"""The releases of every item as one target sees them."""

import copy
import itertools
from collections.abc import Iterable, Iterator

import msgspec

from rhizon.core.model.catalog import Item, Release
from rhizon.core.model.contentlist import CHANNELS
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import Target
from rhizon.core.solve.problem import Request, Shelf
from rhizon.core.version import Version, parse_version

__all__ = ["Universe"]


class Universe:
    """Items are asked of the shelf once; each release knows why it may not be chosen.

    The reason is a short phrase that completes "2.0 is not taken because it ...".
    """

    def __init__(self, request: Request, game: GameDefinition, shelf: Shelf) -> None:
        self.request = request
        self.game = game
        self.shelf = self._shelf = shelf
        self._items: dict[str, tuple[str, Item] | None] = {}
        self._stand_ins: dict[str, list[str]] | None = None
        # id, version, how many: releases that a catalog has twice with different contents
        self.contradictions: list[tuple[str, str, int]] = []
        # by target: what releases say of it, and the answer; most releases say the same as some other
        self._against: dict[Target, dict[tuple[str, str, str], str]] = {}
        self._answers: dict[tuple[str, str, str], str] = {}
        self._seen: Target | None = None
        self._accepts: dict[str, tuple[str, ...]] = {}
        self.locked = {one.id: one.version for one in request.keep.releases} if request.keep is not None else {}

    def asked(self, request: Request) -> "Universe":
        """The same releases under another question for the same game."""
        other = copy.copy(self)
        other.request = request
        return other

    def warm(self, target: Target) -> None:
        """Tells the shelf, wave by wave, what the newest releases lead to: nearly all that a search will touch."""
        seen: set[str] = set()
        wave = list(self.request.wishes)
        while wave:
            self._shelf.prefetch(self.game.id, wave)
            seen.update(wave)
            following: dict[str, None] = {}
            for name in wave:
                newest = next((release for release, reason in self.releases(name, target) if not reason), None)
                for need in newest.requires if newest is not None else ():
                    following.setdefault(need.alternatives[0].id)
            wave = [name for name in following if name not in seen]

    def stand_ins(self, name: str) -> list[str]:
        """Ids of items that say that they stand in for this one."""
        if self._stand_ins is None:
            self._stand_ins = {}
            for other, line in self._shelf.index(self.game.id).items.items():
                for given in line.provides:
                    self._stand_ins.setdefault(given, []).append(other)
        return self._stand_ins.get(name, [])

    def item(self, name: str) -> Item | None:
        """The item, or None when no catalog has it."""
        entry = self._entry(name)
        return entry[1] if entry else None

    def catalog_of(self, name: str) -> str:
        """The name of the catalog that the item came from."""
        entry = self._entry(name)
        assert entry is not None, name
        return entry[0]

    def _entry(self, name: str) -> tuple[str, Item] | None:
        if name not in self._items:
            found = self._shelf.item(self.game.id, name)
            if found is not None:
                found = (found[0], _with(found[1], self._told_apart(found[1])))
            self._items[name] = found
        return self._items[name]

    def _told_apart(self, item: Item) -> tuple[Release, ...]:
        """Newest first. A version that two different releases have cannot be trusted: neither is taken."""
        found = item.releases
        if all(newer.version.key > older.version.key for newer, older in itertools.pairwise(found)):
            return found
        by_version: dict[Version, list[Release]] = {}
        for release in item.releases:
            by_version.setdefault(release.version, []).append(release)
        for version, twins in by_version.items():
            if any(one != twins[0] for one in twins):
                self.contradictions.append((item.id, version.text, len(twins)))
        good = [twins[0] for twins in by_version.values() if all(one == twins[0] for one in twins)]
        return tuple(sorted(good, key=lambda one: one.version, reverse=True))

    def releases(self, name: str, target: Target) -> Iterator[tuple[Release, str]]:
        """Newest first, each with why it may not be chosen on the target, or nothing."""
        item = self.item(name)
        for release in item.releases if item else ():
            yield release, self.reason_against(name, release, target)

    def reason_against(self, name: str, release: Release, target: Target) -> str:
        """Why the release cannot be chosen on the target whatever else is chosen; empty when it can."""
        wish = self.request.wishes.get(name)
        if wish is not None and not wish.range.admits(release.version):
            return f"is outside {wish.range}, which {self.request.source} asks for"
        return next(self.limits(name, (release,), target))

    def limits(self, name: str, releases: Iterable[Release], target: Target) -> Iterator[str]:
        """For each release of an item the same without the list's own range."""
        whole = ""
        if name in self.request.exclude:
            whole = f"is excluded by {self.request.source}"
        elif self.item(name) is not None and not self._takes(name, target):
            whole = f"is a kind of content that {target.loader} does not take"
        most = CHANNELS.index(self.request.channel_of(name))
        locked = self.locked.get(name)
        for release in releases:
            if whole:
                yield whole
            elif release.yanked and locked != release.version:
                yield f"was withdrawn by its author ({release.yanked})"
            elif CHANNELS.index(release.channel) > most and locked != release.version:
                yield f"is on the {release.channel} channel"
            else:
                yield self.off_target(release, target)

    def _takes(self, name: str, target: Target) -> bool:
        """Loaders say which code they load; templates and datapacks are the game's own matter."""
        item = self.item(name)
        assert item is not None, name
        if item.kind in ("template", "datapack"):
            return item.kind in self.game.folders
        return item.kind in self.game.loaders[target.loader].kinds

    def off_target(self, release: Release, target: Target) -> str:
        """Why the target itself does not take the release; empty when it does."""
        builds = release.loaders.get(target.loader)
        if release.loaders and builds is None:
            return self._looked_up(release, target)
        said = (release.game_versions.text, builds.text if builds is not None else "", release.runtime.text)
        if target is not self._seen:  # hashing a target costs more than all the rest of this
            self._seen, self._answers = target, self._against.setdefault(target, {})
        known = self._answers
        if said not in known:
            known[said] = self._looked_up(release, target)
        return known[said]

    def _looked_up(self, release: Release, target: Target) -> str:
        """The releases of an item with the reason why each that is not admissible is not."""
        accepted = self._accepts.get(release.game_versions.text)
        if accepted is None:
            accepted = self.game.versions_within(release.game_versions)
            self._accepts[release.game_versions.text] = accepted
        if target.game_version not in accepted:
            return f"is for {self.game.title} {release.game_versions}"
        if release.loaders:
            builds = release.loaders.get(target.loader)
            if builds is None:
                return f"is for {' and '.join(release.loaders)} only"
            if not builds.admits(target.loader_build):
                return f"requires {target.loader} {builds}"
        if target.runtime_major and not release.runtime.admits(parse_version(str(target.runtime_major))):
            return f"requires {target.runtime.capitalize()} {release.runtime}"
        return ""


def _with(item: Item, releases: tuple[Release, ...]) -> Item:
    return msgspec.structs.replace(item, releases=releases)

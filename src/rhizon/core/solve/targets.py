"""The targets that could carry a list, the preferred first."""

import contextlib
from collections.abc import Iterator

from rhizon.core.errors import NoSolutionError
from rhizon.core.model.base import ANY
from rhizon.core.model.catalog import HostFiles, LoaderBuild
from rhizon.core.model.contentlist import CHANNELS, STABLE
from rhizon.core.model.game import OWN_LOADER, GameDefinition
from rhizon.core.model.lock import Target
from rhizon.core.solve.problem import Request
from rhizon.core.version import Version, parse_version

__all__ = ["candidates"]


def candidates(request: Request, game: GameDefinition, host: HostFiles) -> list[tuple[Target, LoaderBuild | None]]:
    """Newest game version first, then loaders as the definition orders them, recommended and newest builds
    first, runtime majors as the request orders them; no build where the server itself takes content.
    Raises :class:`NoSolutionError` when there is none."""
    found = list(_candidates(request, game, host))
    if found:
        return found
    stocked = [f"{one.version}{_on(one.branch)}" for one in host.server]
    otherwise = _spelled_otherwise(game, host)
    builds = ", ".join(f"{one.loader} {one.build}" for one in host.loaders) or "of no loader"
    raise NoSolutionError(
        "no-target",
        f"no target that {request.source} allows is available: {_words(request)}",
        details=[
            f"the catalog has {game.title} {', '.join(stocked) or 'in no version'}",
            f"and the builds {builds}",
            *otherwise,
        ],
        hint="Widen [target] in the list, or add a catalog that has it.",
    )


def _spelled_otherwise(game: GameDefinition, host: HostFiles) -> list[str]:
    """Versions that the catalog and the definition seem to spell differently."""
    lines = []
    for one in host.server:
        if one.version in game.versions:
            continue
        with contextlib.suppress(ValueError):
            own = parse_version(one.version)
            for known in game.versions:
                with contextlib.suppress(ValueError):
                    if parse_version(known) == own:
                        lines.append(f"the catalog calls it {one.version}, the definition {known}: one has to change")
    return lines


def _on(branch: str) -> str:
    return "" if branch == STABLE else f" on its branch {branch}"


def _words(request: Request) -> str:
    wish = request.target
    parts = [f"{request.game} {wish.game_version}{_on(wish.branch)}"]
    if wish.loader != OWN_LOADER:
        parts.append(f"{wish.loader or 'any loader'} {wish.loader_build}")
    if not wish.runtime.open:
        parts.append(f"runtime {wish.runtime}")
    return ", ".join(parts)


def _candidates(request: Request, game: GameDefinition, host: HostFiles) -> Iterator[tuple[Target, LoaderBuild | None]]:
    """Every target that the request allows, in order of preference."""
    wish = request.target
    stocked = {one.version for one in host.server if one.branch == wish.branch}
    loaders = [wish.loader] if wish.loader is not None else list(game.loaders)
    for version in reversed(game.versions_within(wish.game_version)):
        if version not in stocked:
            continue
        for loader in loaders:
            builds = [None] if loader == OWN_LOADER else _builds(request, game, host, loader, version)
            for build in builds:
                for major in _majors(request, game, build, version):
                    target = Target(
                        game=game.id,
                        game_version=version,
                        loader=loader,
                        loader_build=build.build if build is not None else _own_build(version),
                        runtime=game.runtime.family,
                        runtime_major=major,
                    )
                    yield target, build


def _builds(request: Request, game: GameDefinition, host: HostFiles, loader: str, version: str) -> list[LoaderBuild]:
    """The builds of a loader that the request allows, recommended and newest first."""
    wish = request.target
    # a build that is named exactly may be of any channel
    named = len(wish.loader_build.comparators) == 1 and wish.loader_build.comparators[0].op == "="
    channel = "draft" if named else request.channel
    builds = [
        one
        for one in host.loaders
        if one.loader == loader
        and loader in game.loaders
        and CHANNELS.index(one.channel) <= CHANNELS.index(channel)
        and wish.loader_build.admits(one.build)
        and version in game.versions_within(one.game_versions)
    ]
    builds.sort(key=lambda one: one.build, reverse=True)
    builds.sort(key=lambda one: not one.recommended)
    return builds


def _own_build(version: str) -> Version:
    """The build of a server that takes content itself: its own version, as far as that is one like others."""
    try:
        return parse_version(version)
    except ValueError:
        return parse_version("0")


def _majors(request: Request, game: GameDefinition, build: LoaderBuild | None, version: str) -> list[int]:
    if game.runtime.family == "none":
        return [0]
    bounds = (game.runtime_majors(version), build.runtime if build is not None else ANY, request.target.runtime)
    # a major that is named exactly is tried though it is neither long-term nor here
    named = [one.version.key[0][0] for one in request.target.runtime.comparators if one.op == "="]
    majors = dict.fromkeys((*request.majors, *named))
    return [one for one in majors if all(bound.admits(parse_version(str(one))) for bound in bounds)]

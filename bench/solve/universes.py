"""Seeded synthetic catalogs for the solver's benchmark.

Items are libraries in levels and mods that need them. A release belongs to an era; it needs libraries of eras near
its own. In an "easy" set every release asks only for a least version. In a "hard" set the ranges are windows and
items stopped at different eras, so that the newest releases never agree and shared libraries several levels deep must
be moved together. In a "tangled" set eras say nothing of each other: the windows of every release are anywhere, and
only a hidden choice is sure to fit, so that what is taken first often turns out wrong far down. An "unsat" set is a
hard one with two wishes whose library chains cannot meet.
"""

import json
import random
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from rhizon.core.model.catalog import HostFiles, Item, ItemIndex, ItemLine
from rhizon.core.model.decode import decode_json

ERAS = 12
LEVELS = 3
WINDOW = 4  # eras that a release of a tangled set takes
TANGLED_NEEDS = (2, 4)
KINDS = ("easy", "hard", "tangled", "unsat")


def plan(kind: str, items: int, wishes: int, seed: int) -> tuple[dict[str, dict[str, Any]], list[str]]:
    """Items by id, each as its catalog document, and the list."""
    rng = random.Random(f"{kind} {items} {wishes} {seed}")
    libraries = [[f"lib{level}-{n}" for n in range(max(items // 60, 6))] for level in range(LEVELS)]
    names = [name for level in libraries for name in level]
    mods = [f"mod-{n}" for n in range(items - len(names))]
    made: dict[str, dict[str, Any]] = {}
    if kind == "tangled":
        return _tangled(rng, libraries, mods), rng.sample(mods, wishes)
    for level, group in enumerate(libraries):
        below = libraries[level - 1] if level else []
        for name in group:
            made[name] = _item(rng, kind, name, "library", below, rng.randint(0, 2) if below else 0, ERAS)
    for name in mods:
        last = rng.randint(7, ERAS) if kind != "easy" else ERAS
        made[name] = _item(rng, kind, name, "mod", names, rng.randint(1, 3), last)
    wished = rng.sample(mods, wishes)
    if kind == "unsat":
        _set_at_odds(made, wished[0], wished[-1])
    return made, wished


def _item(
    rng: random.Random, kind: str, name: str, sort: str, pool: list[str], needs: int, last: int
) -> dict[str, Any]:
    wanted = rng.sample(pool, needs) if needs else []
    releases = []
    for era in range(max(1, last - rng.randint(6, 10)), last + 1):
        for minor in range(rng.randint(1, 2)):
            version = f"{era}.{minor}"
            text = f">={max(era - 3, 1)}" if kind == "easy" else f">={max(era - 1, 1)}, <{era + 2}"
            releases.append(_release(name, version, dict.fromkeys(wanted, text)))
    return _document(name, sort, releases)


def _release(name: str, version: str, needs: Mapping[str, str]) -> dict[str, Any]:
    return {
        "version": version,
        "game_versions": ">=4.1, <4.3",
        "loaders": {"keelson": ">=3"},
        "runtime": ">=17",
        "requires": [{"id": one, "range": text} for one, text in needs.items()],
        "artefact": {"path": f"a/{name}-{version}.jar", "sha256": "0" * 64, "size": 1000},
    }


def _document(name: str, sort: str, releases: list[dict[str, Any]]) -> dict[str, Any]:
    return {
        "format": "rhizon-item/1",
        "id": name,
        "game": "tarnholt",
        "kind": sort,
        "title": name,
        "releases": list(reversed(releases)),
    }


def _tangled(rng: random.Random, libraries: list[list[str]], mods: list[str]) -> dict[str, dict[str, Any]]:
    names = [name for level in libraries for name in level]
    hidden = {name: rng.randint(1, ERAS) for name in (*names, *mods)}
    made = {}
    for name in (*names, *mods):
        level = next((at for at, group in enumerate(libraries) if name in group), LEVELS)
        pool = libraries[level - 1] if 0 < level < LEVELS else names if level else []
        wanted = rng.sample(pool, rng.randint(*TANGLED_NEEDS)) if pool else []
        releases = []
        for era in range(1, ERAS + 1):
            needs = {}
            for other in wanted:
                first = rng.randint(1, ERAS - WINDOW + 1)
                if era == hidden[name]:
                    first = min(max(hidden[other] - rng.randrange(WINDOW), 1), ERAS - WINDOW + 1)
                needs[other] = f">={first}, <{first + WINDOW}"
            releases.append(_release(name, f"{era}.0", needs))
        made[name] = _document(name, "library" if name in names else "mod", releases)
    return made


def _set_at_odds(made: dict[str, dict[str, Any]], first: str, second: str) -> None:
    """The two wishes need libraries of their own that need opposite eras of one that nothing else needs."""
    rng = random.Random("odds")
    made["odd-c"] = _item(rng, "hard", "odd-c", "library", [], 0, ERAS)
    for name, library, text in ((first, "odd-a", ">=11"), (second, "odd-b", "<9")):
        made[library] = _item(rng, "hard", library, "library", [], 0, ERAS)
        for release in made[library]["releases"]:
            release["requires"] = [{"id": "odd-c", "range": text}]
        for release in made[name]["releases"]:
            release["requires"].append({"id": library, "range": "*"})


class MemoryShelf:
    """The catalog in memory; ``documents`` are what a catalog's files would hold."""

    def __init__(self, items: Mapping[str, dict[str, Any]]) -> None:
        self._documents = {name: json.dumps(item).encode() for name, item in items.items()}
        self._index = ItemIndex(
            format="rhizon-index/1",
            items={name: ItemLine(title=name, kind=item["kind"]) for name, item in items.items()},
        )
        self.read = 0

    def index(self, _game: str) -> ItemIndex:
        return self._index

    def item(self, _game: str, name: str) -> tuple[str, Item] | None:
        if name not in self._documents:
            return None
        self.read += 1
        return "memory", decode_json(Item, self._documents[name], name, "item")

    def prefetch(self, _game: str, _names: Sequence[str]) -> None:
        pass

    def host(self, _game: str) -> tuple[str, HostFiles]:
        return "memory", decode_json(HostFiles, json.dumps(host_files()).encode(), "host", "host files")

    def hidden(self, _game: str, _name: str) -> list[tuple[str, str, tuple[str, ...]]]:
        return []

    def other_game(self, _game: str, _name: str) -> str | None:
        return None


def host_files() -> dict[str, Any]:
    artefact = {"path": "server.zip", "sha256": "0" * 64, "size": 1}
    build = {"loader": "keelson", "build": "3.1.0", "recommended": True, "artefact": artefact}
    return {
        "format": "rhizon-host-files/1",
        "server": [{"version": "4.2", "artefact": artefact}],
        "loaders": [build],
    }


def write_catalog(items: Mapping[str, dict[str, Any]], wished: list[str], folder: Path) -> None:
    """The same as a catalog on disk, with ``wanted.list.toml`` beside it."""
    where = folder / "catalog" / "tarnholt" / "items"
    where.mkdir(parents=True)
    for name, item in items.items():
        (where / f"{name}.json").write_text(json.dumps(item))
    lines = {name: {"title": name, "kind": item["kind"]} for name, item in items.items()}
    (where.parent / "items.json").write_text(json.dumps({"format": "rhizon-index/1", "items": lines}))
    (where.parent / "host.json").write_text(json.dumps(host_files()))
    games = {"tarnholt": {"index": "tarnholt/items.json", "items": "tarnholt/items", "host": "tarnholt/host.json"}}
    root = {"format": "rhizon-catalog/1", "name": "bench", "games": games}
    (folder / "catalog" / "catalog.json").write_text(json.dumps(root))
    head = (
        'format = "rhizon-list/1"\nname = "wanted"\ngame = "tarnholt"\n[target]\ngame_version = "4.2"\nruntime = "17"\n'
    )
    body = "".join(f'{name} = "*"\n' for name in wished)
    (folder / "wanted.list.toml").write_text(f"{head}[content]\n{body}")

"""Kits and folders that nobody has, for the tests of what judges them: by Python, and by the page's script."""

import random
from typing import Any

from rhizon.core.kit.judge import Seen, SeenFile
from rhizon.core.model.documents import decode
from rhizon.core.model.kit import KitManifest

__all__ = ["kit", "mutilated", "seen_of", "sha"]


def sha(number: int) -> str:
    """A hash that is easy to tell from others."""
    return f"{number:064x}"


def _file(path: str, number: int, size: int = 1000) -> dict[str, Any]:
    return {"path": path, "sha256": sha(number), "size": size + number}


def _jar(name: str, number: int, **more: Any) -> dict[str, Any]:
    place = f"mods/{name}-1.{number}.jar"
    return {"id": name, "version": f"1.{number}", "title": name.title(), "kind": "mod", "place": place,
            "files": [_file(place, number)], **more}  # fmt: skip


def _folder(name: str, number: int, **more: Any) -> dict[str, Any]:
    place = f"herds/{number:03}-{name}"
    files = [_file(f"{place}/plate.txt", 10 * number, 50), _file(f"{place}/kine/breed.dat", 10 * number + 1)]
    return {"id": name, "version": f"1.{number}", "title": name.title(), "kind": "template", "folder": True,
            "place": place, "files": files, **more}  # fmt: skip


def kit(*, strict: bool = False) -> KitManifest:
    """Archives, folders, a loader, settings, other releases and a clash."""
    import json

    document = {
        "format": "rhizon-kit/1",
        "server": "marsh",
        "title": "The marsh evening",
        "game": "tarnholt",
        "game_title": "Tarnholt",
        "game_version": "4.2",
        "protocol": "7",
        "also_game": ["4.2.1"],
        "join": "play.harbour.example:21640",
        "loader": {"id": "keelson", "title": "Keelson", "build": "3.1.0",
                   "files": [_file("hull/about.txt", 90, 14), _file("hull/keelson.jar", 91)]},
        "pieces": [
            _jar("reedlight", 1), _jar("otterden", 2), _jar("chartroom", 3, optional=True),
            _folder("longhorns", 4), _folder("abbeyford", 5), _folder("tunes", 6, optional=True),
        ],
        "overlay": [_file("config/lamps.txt", 80)],
        "content": ["mods", "herds"],
        "others": [{"id": "reedlight", "version": "1.0", "sha256": sha(200), "size": 5},
                   {"id": "drainworks", "version": "1.0", "sha256": sha(201), "size": 5},
                   {"id": "chartroom", "version": "1.2", "sha256": sha(202), "size": 7}],
        "clashes": [{"id": "drainworks", "title": "Drainworks", "beside": "otterden", "versions": ["1.0"],
                     "names": ["drainworks"]},
                    {"id": "wolves", "title": "Wolves", "beside": "longhorns", "versions": ["2.0"]}],
        "loader_mark": {"file": "hull/about.txt", "pattern": r"^(?P<id>\S+) (?P<version>\S+)$"},
        "game_mark": {"file": "tarnholt.txt", "pattern": r"^tarnholt (?P<version>\S+)$"},
        "versions": {
            "template": {"file": "plate.txt", "pattern": r"^(?:herd: (?P<id>\S+)|version: (?P<version>\S+))$"}
        },
        "strict": strict,
    }  # fmt: skip
    return decode(KitManifest, json.dumps(document).encode(), "kit")


def seen_of(manifest: KitManifest, top: str = "Tarnholt/") -> Seen:
    """The folder of a player who has everything as it should be."""
    assert manifest.loader is not None
    files = [file for piece in manifest.pieces for file in piece.files]
    files += [*manifest.overlay, *manifest.loader.files]
    marks = {f"{top}hull/about.txt": ("keelson", "3.1.0"), f"{top}tarnholt.txt": ("", "4.2")}
    for piece in manifest.pieces:
        if piece.folder:
            marks[f"{top}{piece.place}/plate.txt"] = (piece.id, piece.version.text)
    seen = [SeenFile(path=f"{top}{one.path}", size=one.size, sha256=one.sha256) for one in files]
    return Seen(files=(*seen, SeenFile(path=f"{top}tarnholt.txt", size=13)), marks=marks)


def mutilated(manifest: KitManifest, chance: random.Random) -> Seen:
    """The same with a few things gone wrong: lost, cut short, changed, moved, doubled, renamed, unread, of another
    release, with files of the player's own, in another place."""
    top = chance.choice(("", "Tarnholt/", "a/b c/Tarnholt/", "C:\\Games\\TARNHOLT\\", "Mods of Åse/"))
    whole = seen_of(manifest, top)
    files, marks = list(whole.files), dict(whole.marks)
    for _ in range(chance.randrange(5)):
        at = chance.randrange(len(files))
        one = files[at]
        name = one.path.rpartition("/")[2]
        match chance.randrange(12):
            case 0:
                files.pop(at)
            case 1:
                files[at] = SeenFile(path=one.path, size=(one.size or 1) // 2, sha256=sha(chance.randrange(300, 400)))
            case 2:
                files[at] = SeenFile(path=one.path, size=one.size, sha256=sha(chance.randrange(300, 400)))
            case 3:
                files[at] = SeenFile(path=f"{top}{chance.choice(('', 'old/', 'mods/', 'herds/'))}{name}", size=one.size,
                                     sha256=one.sha256)  # fmt: skip
            case 4:
                files[at] = SeenFile(path=one.path, size=chance.choice((one.size, None)))
            case 5:
                files[at] = SeenFile(path=one.path.upper(), size=one.size, sha256=one.sha256)
            case 6:
                number = chance.choice((200, 201, 202))
                where = chance.choice(("mods/reedlight-1.0.jar", "mods/x.jar", "mods/drainworks-1.0.jar", one.path))
                files.append(SeenFile(path=f"{top}{where}", size=5, sha256=sha(number)))
            case 7:
                marks[chance.choice(list(marks))] = (chance.choice(("longhorns", "abbeyford", "wolves", "", "gunwale")),
                                                     chance.choice(("1.4", "2.0", "0.1")))  # fmt: skip
            case 8:
                marks[f"{top}{chance.choice(('herds/mine', 'elsewhere/mine', 'herds/x/y'))}/plate.txt"] = (
                    chance.choice(("longhorns", "wolves", "sheep")), "2.0")  # fmt: skip
            case 9:
                marks.pop(chance.choice(list(marks)), None) if marks else None
            case 10:
                files.append(SeenFile(path=f"{top}mods/my-own{chance.choice(('.jar', '.txt', '-2.jar'))}", size=9,
                                      sha256=sha(chance.randrange(400, 500))))  # fmt: skip
            case _:
                files.append(SeenFile(path=f"{top}mods/otterden-{chance.choice('129')}.0.jar"))
        if not files:
            break
    unique = {one.path: one for one in files}
    return Seen(files=tuple(unique.values()), marks=marks, whole=chance.random() > 0.05)

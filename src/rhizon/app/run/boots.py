"""The starts of a server that are kept: how long each part took."""

import bisect
import contextlib
import gzip
import zlib
from collections.abc import Iterator
from pathlib import Path

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.plots import draw_boot
from rhizon.app.host import Host
from rhizon.core.errors import StateError
from rhizon.core.model.game import GameDefinition
from rhizon.core.timeline import Boot, Slower, boot_timeline, slower_parts, usual_seconds
from rhizon.core.words import command_line
from rhizon.keeper.places import OUTPUT, RUNS, TIMES

__all__ = ["Boots", "boots"]

MOST_BOOTS = 10
MOST_BYTES = 16 << 20


class Boots(msgspec.Struct, frozen=True, kw_only=True):
    """Starts, the newest first. ``usual`` is how long each part of earlier ones took in seconds (the median), and
    ``slower`` what took clearly longer in the newest."""

    folder: str
    name: str
    boots: tuple[Boot, ...]
    usual: dict[str, float]
    slower: tuple[Slower, ...]


def boots(host: Host, folder: Path, plot: Path | None = None) -> Boots:
    """The starts that are kept; the last one is drawn to ``plot``. Raises :class:`StateError` where no start was
    measured yet."""
    home = host.home(folder).required()
    instance = home.instance()
    game = host.game_of(instance)
    found = [boot for boot in _each(home, game) if boot.ready_seconds is not None or boot.phases]
    if not found:
        raise StateError(
            "nothing-measured",
            "no start of the server has been measured yet",
            hint=f"Start it: {command_line('rhizon', 'start', home.folder)}",
        )
    last, usual = found[0], usual_seconds(found[1:MOST_BOOTS])
    if plot is not None:
        draw_boot(plot, instance.name, [(one.name, one.begin, one.seconds) for one in last.phases], usual)
    return Boots(
        folder=str(home.folder),
        name=instance.name,
        boots=tuple(found[:MOST_BOOTS]),
        usual=usual,
        slower=slower_parts(last, usual),
    )


def _each(home: InstanceFolder, game: GameDefinition) -> Iterator[Boot]:
    earlier = sorted((home.own / RUNS).glob("*.times"), reverse=True)
    runs = [(home.own / OUTPUT, home.own / TIMES, "the last one")]
    runs += [(one.with_suffix(".log.gz"), one, one.stem) for one in earlier[:MOST_BOOTS]]
    for log, times, began in runs:
        with contextlib.suppress(OSError, ValueError, EOFError, zlib.error):
            marks = [line.split() for line in times.read_text("utf-8").splitlines()]
            offsets, seconds = [int(one[0]) for one in marks], [float(one[1]) for one in marks]
            with gzip.open(log, "rb") if log.suffix == ".gz" else log.open("rb") as file:
                data = file.read(MOST_BYTES)
            yield boot_timeline(game, began, _timed(data, offsets, seconds, game.log.encoding))


def _timed(data: bytes, offsets: list[int], seconds: list[float], encoding: str) -> Iterator[tuple[float, str]]:
    """Each line with the time of the look at which it was there."""
    at = 0
    for line in data.split(b"\n"):
        index = bisect.bisect_right(offsets, at) - 1
        yield seconds[max(index, 0)], line.decode(encoding, "replace").rstrip("\r")
        at += len(line) + 1

"""How the files of a folder of archives are shown."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rhizon.cli.command import Call
from rhizon.cli.output import say

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.core.folder_files import FolderFile

__all__ = ["show_folder_files"]


def show_folder_files(to: "Console", files: Sequence["FolderFile"], call: Call) -> None:
    """What became of each file; those that were taken are only counted, but with --verbose."""
    if not files:
        return
    counts = [(state, sum(one.state == state for one in files)) for state in ("taken", "left out", "fetched")]
    say(to, "folder: " + ", ".join(f"{count} {state}" for state, count in counts if count))
    shown = [one for one in files if call.out.verbose or one.state != "taken"]
    rows = [(one.path, one.item and f"{one.item} {one.version}", one.state, one.why) for one in shown]
    if rows:
        call.table(to, ("file", "release", "", "why"), rows, prose=("why",))

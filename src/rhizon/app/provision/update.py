"""New releases, or a new version of the pack, for an instance that is there."""

from pathlib import Path

import msgspec

from rhizon.adapters.instances import CONTENT_LIST, InstanceFolder
from rhizon.app.host import Host
from rhizon.app.provision import AskLicence, AskSecret, ProvisionResult, ProvisionWishes, provision
from rhizon.app.provision.adjust import ContentChanges
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError
from rhizon.core.words import command_line

__all__ = ["UpdateWishes", "update"]


class UpdateWishes(msgspec.Struct, frozen=True, kw_only=True):
    """What a person asks for. ``source`` is another pack or list; without it the instance's own source is read
    again."""

    folder: Path
    source: Path | None = None
    catalogs: tuple[str, ...] = ()
    allow_installer: bool = False
    accept_licence: bool = False
    stop_first: bool = False
    back_up: bool = True
    dry_run: bool = False
    ask_secret: AskSecret | None = None
    content: ContentChanges = ContentChanges()


def update(
    host: Host, wishes: UpdateWishes, reporter: Reporter, ask_licence: AskLicence | None = None
) -> ProvisionResult:
    """Solves the source again, and makes the instance what comes out: what a person chose or edited stays. Raises
    InputError when the source is gone, and what :func:`~rhizon.app.provision.provision` raises."""
    home = host.home(wishes.folder).required()
    source = wishes.source if wishes.source is not None else _own_source(home)
    return provision(
        host,
        ProvisionWishes(
            source=source,
            folder=wishes.folder,
            catalogs=wishes.catalogs,
            accept_licence=wishes.accept_licence,
            allow_installer=wishes.allow_installer,
            stop_first=wishes.stop_first,
            back_up=wishes.back_up,
            why=f"update to {source.name}" if wishes.source is not None else f"update from {source.name}",
            dry_run=wishes.dry_run,
            ask_secret=wishes.ask_secret,
            content=wishes.content,
        ),
        reporter,
        ask_licence,
    )


def _own_source(home: InstanceFolder) -> Path:
    """What the server was made from. Raises InputError where that no longer exists."""
    source = Path(home.instance().source)
    if source.exists():
        return source
    kept = home.own / CONTENT_LIST
    raise InputError(
        "source-gone",
        f"the source of the server was not found: {source}",
        hint="Use the list that Rhizon has kept: " + command_line("rhizon", "update", home.folder, "--source", kept)
        if kept.is_file()
        else "Put it back, or name another list or pack with --source.",
    )

"""The page for players: one document, the kit beside it, and each file of it by its hash."""

import contextlib
from importlib import resources
from pathlib import Path

import msgspec

from rhizon.adapters.files import read_bytes, translated, write_atomic
from rhizon.adapters.host import now
from rhizon.adapters.keepers import tell_pages
from rhizon.adapters.zip_out import write_zip
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import exclusive
from rhizon.app.instance.server_state import state_of
from rhizon.app.instance.state import require_instance_state
from rhizon.app.reporter import Reporter
from rhizon.app.share.kit import Told, kit_entries, remember_told, told_state
from rhizon.app.share.players_need import page_texts, players_need
from rhizon.core.errors import DocumentError, InputError
from rhizon.core.kit.page import Change, PageParts, changes_between, page_html
from rhizon.core.kit.readme import SYSTEMS, readme
from rhizon.core.kit.zipped import MANIFEST_FILE, packed_files
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import decode
from rhizon.core.model.kit import KitManifest
from rhizon.keeper.pages import STATUS_FILE, status_text

__all__ = ["PageResult", "make_page"]

CHANGES_FILE = "changes.json"
SCRIPTS = ("judge.js", "app.js", "worker.js", "sha256.js")


class PageResult(msgspec.Struct, frozen=True, kw_only=True):
    """The page: its folder, the kit beside it, how many files it offers one by one, what players join at, and what is
    different from the page that was there before."""

    folder: str
    name: str
    page: str
    planned: bool
    kit: str
    files: int
    join: str
    changes: tuple[Change, ...]


def make_page(
    host: Host, folder: Path, target: Path, reporter: Reporter, told: Told = Told(), *, dry_run: bool = False
) -> PageResult:
    """Writes the page into ``target``, a new folder or one with a page. The server's keeper writes its state there from
    now on. Raises InputError (a folder of something else), :class:`~rhizon.core.errors.StateError`."""
    home = host.home(folder).required()
    _fit_for_us(target)
    if not dry_run:
        remember_told(host, folder, reporter, told)
    state = told_state(require_instance_state(host, home), told)
    kit = players_need(host, state, reporter)
    kit_file = f"{state.instance.name}-kit.zip"
    before = _before(target)
    changes = _changes(target, before, kit)
    files = packed_files(kit)
    result = PageResult(
        folder=str(home.folder),
        name=state.instance.name,
        page=str(target / "index.html"),
        planned=dry_run,
        kit=kit_file,
        files=len(files),
        join=kit.join,
        changes=tuple(changes),
    )
    if dry_run:
        return result
    texts = page_texts()
    reporter.step("writing the page")
    write_zip(target / kit_file, kit_entries(host, kit, kit, readme(texts, kit, SYSTEMS)))
    wanted = set()
    with translated("write the page", target):
        (target / "files").mkdir(parents=True, exist_ok=True)
        for file in files:
            wanted.add(file.sha256)
            place = target / "files" / file.sha256
            if not place.is_file() or place.stat().st_size != file.size:
                write_atomic(place, host.store.read(file.sha256, file.path))
        page = resources.files("rhizon.page")
        parts = PageParts(
            texts=texts,
            scripts={name: page.joinpath(name).read_text("utf-8") for name in SCRIPTS},
            style=page.joinpath("style.css").read_text("utf-8"),
            qr=_qr(kit.join),
            kit_file=kit_file,
            date=now()[:10],
            changes=changes,
        )
        write_atomic(target / MANIFEST_FILE, encode_json(kit))
        write_atomic(target / CHANGES_FILE, msgspec.json.encode(changes))
        write_atomic(target / "index.html", page_html(kit, parts).encode())
        for old in (target / "files").iterdir():
            if old.name not in wanted:
                old.unlink()
    _told_to_keeper(host, folder, target, reporter)
    reporter.done(f"the page is {target / 'index.html'}")
    return result


def _fit_for_us(target: Path) -> None:
    if target.exists() and (not target.is_dir() or (any(target.iterdir()) and not (target / MANIFEST_FILE).is_file())):
        raise InputError(
            "folder-not-ours", f"{target} is not empty and is no page of Rhizon's", hint="Name a new folder."
        )


def _before(target: Path) -> KitManifest | None:
    """What the page that is there was made from; None where there is none, or it is damaged."""
    if not (target / MANIFEST_FILE).is_file():
        return None
    try:
        return decode(KitManifest, read_bytes(target / MANIFEST_FILE, "manifest"), str(target))
    except DocumentError:
        return None


def _changes(target: Path, before: KitManifest | None, kit: KitManifest) -> list[Change]:
    """What is different from the page before; where nothing is, what was different then."""
    found = changes_between(before, kit) if before is not None else []
    if found or not (target / CHANGES_FILE).is_file():
        return found
    with contextlib.suppress(msgspec.MsgspecError):
        return msgspec.json.decode(read_bytes(target / CHANGES_FILE, "changes"), type=list[Change])
    return []


def _qr(text: str) -> str:
    """The address as a picture that scales, dark on light whatever the page's colours are."""
    if not text:
        return ""
    import segno  # only pages need it

    return segno.make(text, micro=False).svg_inline(border=2, dark="#000", light="#fff", omitsize=True)


def _told_to_keeper(host: Host, folder: Path, target: Path, reporter: Reporter) -> None:
    """The keeper writes the server's state there: the one that runs now, and all later ones."""
    home = host.home(folder)
    place = str(target.absolute())
    with exclusive(host, home, reporter):
        instance = home.instance()
        pages = tuple(sorted({*instance.players.pages, place}))
        pages = tuple(one for one in pages if Path(one, MANIFEST_FILE).is_file())
        players = msgspec.structs.replace(instance.players, pages=pages)
        if players != instance.players:
            home.write_instance(msgspec.structs.replace(instance, players=players))
    current = state_of(host, home)
    if current.kept and current.pid is not None:
        tell_pages(home, list(pages))
    else:
        write_atomic(target / STATUS_FILE, status_text(current.state if current.pid is not None else "stopped"))

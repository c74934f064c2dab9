"""A content list that says what a player's folder has."""

from pathlib import Path

from rhizon.adapters.files import translated, write_atomic
from rhizon.app.archives.scan import scan_files
from rhizon.app.choose.kit_file import read_kit
from rhizon.app.host import Host
from rhizon.app.instance.state import require_instance_state
from rhizon.app.reporter import Reporter
from rhizon.app.share.match import seen_folder
from rhizon.app.share.players_need import players_need
from rhizon.core.errors import InputError
from rhizon.core.kit.judge import judge, mark_for
from rhizon.core.kit.manifest import kit_list
from rhizon.core.model.contentlist import Wish
from rhizon.core.model.encode import content_list_toml
from rhizon.core.version import Version, parse_range

__all__ = ["make_list"]


def make_list(host: Host, server: Path, theirs: Path, file: Path, reporter: Reporter) -> str:
    """Writes the list: the server's target, and every piece of content that is in the folder, with what is client-only
    marked in its head. Raises InputError where the folder has no content."""
    if not theirs.is_dir():
        raise InputError("not-a-folder", f"{theirs} is not a folder", hint="--make-list needs the player's folder.")
    if server.is_file():
        manifest, _ = read_kit(server)
    else:
        manifest = players_need(host, require_instance_state(host, host.home(server).required()), reporter)
    game = host.games(Path.cwd()).get(manifest.game)
    seen, _ = seen_folder(manifest, theirs, reporter)
    base = judge(manifest, seen).base
    found: dict[str, Version] = {}
    client_only: list[str] = []
    patterns = {one.pattern for one in manifest.versions.values()}
    for path, (name, version) in seen.marks.items():
        if name and mark_for(manifest, path) in patterns:
            found.setdefault(name, Version(version))
    folders = [theirs.absolute().parent / one.path for one in seen.files]
    content = {f"{base}{one}".lower() for one in manifest.content}
    archives = [
        path for path in folders if path.parent.relative_to(theirs.absolute().parent).as_posix().lower() in content
    ]
    for scanned in scan_files(host, archives, [game], reporter):
        facts = scanned.archive.facts if scanned.archive is not None else None
        if facts is not None:
            found.setdefault(facts.id, facts.version)
            if scanned.archive is not None and scanned.archive.placement == "player":
                client_only.append(facts.id)
    if not found:
        raise InputError("no-archives", f"{theirs} has no content of {manifest.game_title}", hint="Name its folder.")
    client_only += [one.id for one in manifest.pieces if one.client_only and one.id in found]
    wanted = {name: Wish(range=parse_range(version.text)) for name, version in sorted(found.items())}
    made = kit_list(manifest)
    notes = [f"{name} is client-only: no server gets it" for name in sorted(set(client_only))]
    document = type(made)(
        format=made.format,
        name=made.name,
        title=f"What a player of {manifest.server} has",
        game=made.game,
        target=made.target,
        content={**wanted},
    )
    with translated("write the list", file):
        write_atomic(file, content_list_toml(document, notes).encode())
    return str(file)

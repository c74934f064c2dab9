"""``rhizon inspect``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, say, show_findings, show_pairs, show_table, verdict
from rhizon.core.units import size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.inspect import Inspected

__all__ = ["command"]


@click.command("inspect")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@common
def command(files: tuple[Path, ...], out: Output) -> int:
    """What is in each of FILES: a content list, a pack (folder or .rhz), a lock, a definition, an archive.

    Exit code 1 when an archive has something wrong with it.
    """
    from rhizon.app.context import this_host
    from rhizon.app.inspect import inspect

    host = this_host()
    seen = [inspect(host, file) for file in files]
    findings = [finding for one in seen for finding in one.findings]

    def render(to: "Console") -> None:
        archives = [one for one in seen if one.kind == "archive"]
        for one in seen:
            if one.kind != "archive" or len(archives) == 1:
                _render(to, one)
        if len(archives) > 1:
            _render_archives(to, archives)
        show_findings(to, findings)

    out.result(seen[0] if len(seen) == 1 else seen, render, findings)
    return 1 if any(one.severity == "error" for one in findings) else 0


def _render(to: "Console", one: "Inspected") -> None:
    if one.content_list is not None:
        _content_list(to, one)
    elif one.pack is not None:
        _pack(to, one)
    elif one.lock is not None:
        lock = one.lock
        verdict(
            to, f"{one.path}: a lock, {len(lock.releases)} releases for {lock.target.game} {lock.target.game_version}"
        )
        rows = [
            (x.id, x.version.text, x.placement, size_text(x.file.size), x.file.sha256[:16] + "…") for x in lock.releases
        ]
        show_table(to, ("item", "release", "placement", "size", "SHA-256"), rows, right=("size",))
    elif one.game is not None:
        game = one.game
        verdict(to, f"{one.path}: the game definition of {game.title} ({', '.join(game.versions)})")
        say(to, f"see it whole with: rhizon game show {one.path}")
    else:
        _archive(to, one)


def _content_list(to: "Console", one: "Inspected") -> None:
    wanted = one.content_list
    assert wanted is not None
    verdict(to, f"{one.path}: a content list, {len(wanted.content)} items for {wanted.game}")
    target = wanted.target
    loader = f"{target.loader} {target.loader_build}" if target.loader else "any loader"
    say(to, f"target: {wanted.game} {target.game_version}, {loader}, runtime {target.runtime}")
    rows = [
        (name, wish.range.text, wish.channel or wanted.channel, "optional" if wish.optional else "")
        for name, wish in wanted.wishes().items()
    ]
    show_table(to, ("item", "range", "channel", ""), rows)
    if wanted.settings:
        say(to, "settings: " + ", ".join(f"{name} = {value}" for name, value in wanted.settings.items()))
    if wanted.operators:
        say(to, "operators: " + ", ".join(wanted.operators))


def _pack(to: "Console", one: "Inspected") -> None:
    pack, trees = one.pack, one.trees or {}
    assert pack is not None
    verdict(to, f"{one.path}: the pack {pack.title or pack.name} {pack.version}, {len(pack.content)} items")
    target = pack.target
    say(to, f"target: {pack.game} {target.game_version}, {target.loader} {target.loader_build}")
    show_table(to, ("item", "release"), [(name, version.text) for name, version in pack.content.items()])
    say(to, "files to lay over: " + (", ".join(f"{count} {tree}" for tree, count in sorted(trees.items())) or "none"))
    if pack.memory is not None:
        say(to, f"memory: at least {pack.memory.least_mib} MiB, {pack.memory.recommended_mib} MiB recommended")


def _archive(to: "Console", one: "Inspected") -> None:
    facts = one.archive
    if facts is None:
        verdict(to, f"{one.path}: an archive that no known loader has metadata in", good=False)
        return
    verdict(to, f"{facts.title}: {facts.id} {facts.version}, a {facts.kind} for {one.archive_game}")
    relations = [f"needs {x.id} {x.range}" for x in facts.requires] + [f"clashes with {x.id}" for x in facts.conflicts]
    rows = [
        ("loaders", ", ".join(f"{name} {builds}" for name, builds in facts.loaders.items())),
        ("game versions", facts.game_versions.text),
        ("placement", f"{facts.placement} (declared)"),
        ("relations", "; ".join(relations) or "none"),
        ("compiled for", f"Java {facts.java_major}" if facts.java_major else "no code"),
        ("size", f"{size_text(one.size or 0)} in {one.files} files"),
        ("SHA-256", one.sha256 or ""),
    ]
    show_pairs(to, rows)


def _render_archives(to: "Console", archives: list["Inspected"]) -> None:
    unknown = sum(one.archive is None for one in archives)
    verdict(to, f"{len(archives)} archives" + (f", {unknown} without known metadata" if unknown else ""))
    rows = []
    for one in archives:
        facts = one.archive
        if facts is None:
            rows.append((Path(one.path).name, "?", "", "", "", "", size_text(one.size or 0)))
            continue
        loaders = ", ".join(f"{name} {builds}" for name, builds in facts.loaders.items())
        java = f"Java {facts.java_major}" if facts.java_major else ""
        row = (facts.id, facts.version.text, facts.placement, loaders, facts.game_versions.text, java)
        rows.append((*row, size_text(one.size or 0)))
    columns = ("item", "release", "placement", "loaders", "game versions", "code", "size")
    show_table(to, columns, rows, right=("size",))

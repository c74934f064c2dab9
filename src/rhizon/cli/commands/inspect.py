"""``rhizon inspect``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.completion import complete_games
from rhizon.cli.output import say, show_findings, show_pairs, verdict
from rhizon.core.model.game import OWN_LOADER
from rhizon.core.units import counted, size_text
from rhizon.core.words import command_line

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.archives.scan import ScannedFile
    from rhizon.app.choose.inspect import Inspection
    from rhizon.core.archives.assembly import Assembly
    from rhizon.core.archives.facts import ArchiveFacts
    from rhizon.core.archives.scan import Scanned
    from rhizon.core.finding import Finding
    from rhizon.core.model.base import SettingValue
    from rhizon.core.model.contentlist import SecretSource

__all__ = ["inspect"]


@command(
    "inspect",
    examples=(
        ("rhizon inspect tarnholt.list.toml", "a content list"),
        ("rhizon inspect reedlight-2.1.0.jar", "what an archive says and what its code shows"),
        ("rhizon inspect my-mods/ --verbose", "a folder of archives, with every finding"),
        ("rhizon inspect my-mods/ --find-class marshlib.Lamps", "list the archives that contain a class"),
        ("rhizon inspect marshlib-4.0.0.jar --deep", "which classes of a library no server can load"),
    ),
    verbose="every finding, not only the first five of each kind",
    tables=True,
    results=False,
)
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FILE|FOLDER...")
@click.option("--deep", is_flag=True, help="Check each class on its own, also those that no loader starts.")
@click.option(
    "--find-class",
    "find_classes",
    multiple=True,
    metavar="NAME",
    help="List the archives that contain this class.",
)
@click.option("--game", metavar="ID", shell_complete=complete_games, help="Read archives as content of this game only.")
def inspect(call: Call, files: tuple[Path, ...], deep: bool, find_classes: tuple[str, ...], game: str | None) -> Answer:
    """Show what files really are: archives (or a folder of them), a content list, a pack, a lock, a definition.

    Of an archive: what it says, what its code shows, and where the two disagree. A catalog is a shelf of many releases;
    archives of a plain folder are read as one set. Exit code 1 when there is an error.
    """
    from rhizon.app.choose.inspect import inspect as look

    seen = look(call.host, files, game, call.reporter, deep=deep, find_classes=find_classes)
    call.close()
    findings = list(seen.findings)
    shown, more = (findings, []) if call.out.verbose else _few_of_each(findings)
    archives = [one for one in seen.inspected if one.archive is not None]

    def body(to: "Console") -> None:
        for one in seen.inspected:
            if one.archive is None or len(archives) == 1:
                _render(to, one, call)
        if len(archives) > 1:
            _render_archives(to, archives, findings, call, shelf=seen.is_shelf)
        for name, files in seen.holders.items():
            say(to, f"class {name}: " + (", ".join(files) or "in none of these archives"))
        show_findings(to, shown)
        for line in more:
            say(to, line)

    bad = any(one.severity == "error" for one in findings)
    return Answer(seen, "", body, exit_code=1 if bad else 0, findings=findings if call.out.json else ())


MOST_OF_ONE = 5  # findings of one code that are shown: a table of 300 archives must stay readable


def _few_of_each(findings: list["Finding"]) -> tuple[list["Finding"], list[str]]:
    """The first findings of each code, and how many more there are."""
    counts: dict[str, int] = {}
    shown = []
    for one in findings:
        counts[one.code] = counts.get(one.code, 0) + 1
        if counts[one.code] <= MOST_OF_ONE:
            shown.append(one)
    more = [
        f"{count - MOST_OF_ONE} more findings of this kind: {code} (--verbose shows all)"
        for code, count in counts.items()
        if count > MOST_OF_ONE
    ]
    return shown, more


def _render(to: "Console", one: "Inspection", call: Call) -> None:
    """What a file is, by its kind."""
    if one.content_list is not None:
        _content_list(to, one, call)
    elif one.pack is not None:
        _pack(to, one, call)
    elif one.kit is not None:
        _kit(to, one, call)
    elif one.lock is not None:
        lock = one.lock
        target = f"{lock.target.game} {lock.target.game_version}"
        verdict(to, f"{one.path}: a lock, {counted(len(lock.releases), 'release')} for {target}")
        rows = [
            (x.id, x.version.text, x.placement, size_text(x.file.size), x.file.sha256[:16] + "…") for x in lock.releases
        ]
        call.table(to, ("item", "release", "placement", "size", "SHA-256"), rows, right=("size",))
    elif one.game is not None:
        game = one.game
        verdict(to, f"{one.path}: the game definition of {game.title} ({', '.join(game.versions)})")
        say(to, f"details: {command_line('rhizon', 'game', 'show', one.path)}")
    else:
        _archive(to, one)


def _content_list(to: "Console", one: "Inspection", call: Call) -> None:
    """A list's target, wishes and settings."""
    wanted = one.content_list
    assert wanted is not None
    verdict(to, f"{one.path}: a content list, {counted(len(wanted.content), 'item')} for {wanted.game}")
    target = wanted.target
    loader = f"{target.loader} {target.loader_build}" if target.loader else "any loader"
    say(to, f"target: {wanted.game} {target.game_version}, {loader}, runtime {target.runtime}")
    rows = [
        (name, wish.range.text, wish.channel or wanted.channel, "optional" if wish.optional else "")
        for name, wish in wanted.wishes().items()
    ]
    call.table(to, ("item", "range", "channel", ""), rows)
    if wanted.settings:
        say(to, "settings: " + ", ".join(f"{name} = {_plain(value)}" for name, value in wanted.settings.items()))


def _plain(value: "SettingValue | SecretSource") -> str:
    from rhizon.core.model.contentlist import SecretSource
    from rhizon.core.settings.apply import format_value

    if isinstance(value, SecretSource):
        return f"from {value.file}" if value.file else "(generated)" if value.generate else "(asked for)"
    return ", ".join(value) if isinstance(value, tuple) else format_value(value)


def _loaders(facts: "ArchiveFacts") -> str:
    """Those that it is for; a server that takes content itself goes without saying."""
    return ", ".join(f"{name} {builds}" for name, builds in facts.loaders.items() if name != OWN_LOADER)


def _pack(to: "Console", one: "Inspection", call: Call) -> None:
    pack, trees = one.pack, one.trees or {}
    assert pack is not None
    verdict(to, f"{one.path}: the pack {pack.title or pack.name} {pack.version}, {counted(len(pack.content), 'item')}")
    target = pack.target
    loader = f", {target.loader} {target.loader_build}" if target.loader_build is not None else ""
    say(to, f"target: {pack.game} {target.game_version}{loader}")
    call.table(to, ("item", "release"), [(name, version.text) for name, version in pack.content.items()])
    say(to, "overlay files: " + (", ".join(f"{count} {tree}" for tree, count in sorted(trees.items())) or "none"))
    if pack.memory is not None:
        say(to, f"memory: at least {pack.memory.least_mib} MiB, {pack.memory.recommended_mib} MiB recommended")


def _kit(to: "Console", one: "Inspection", call: Call) -> None:
    kit = one.kit
    assert kit is not None
    verdict(to, f"{one.path}: a kit for players of {kit.title}, {counted(len(kit.pieces), 'piece')} of content")
    loader = f", {kit.loader.title} {kit.loader.build}" if kit.loader is not None else ""
    say(to, f"target: {kit.game_title} {kit.game_version}{loader}")
    rows = [
        (piece.id, piece.version.text, "optional" if piece.optional else "needed", "" if piece.packed else piece.page)
        for piece in kit.pieces
    ]
    if rows:
        call.table(to, ("content", "release", "for players", "players fetch it from"), rows)
    say(to, f"files: {counted(one.files or 0, 'file')} for the game's folder")
    if kit.join:
        say(to, f"players join at {kit.join}")


def _archive(to: "Console", one: "Inspection") -> None:
    """What one archive declares and what its code shows."""
    file = one.archive
    assert file is not None
    found = file.archive
    if file.assembly is not None and (found is None or found.facts is None):
        verdict(to, f"{one.path}: the .NET assembly {file.assembly.name} {file.assembly.version}")
        show_pairs(to, [*_built(file.assembly), ("size", size_text(one.size or 0)), ("SHA-256", one.sha256 or "")])
        return
    if found is None:
        verdict(to, f"{one.path}: cannot be used", good=False)
        return
    facts, code = found.facts, found.code
    if facts is None:
        verdict(to, f"{one.path}: an archive without metadata of a known loader", good=False)
        rows = []
    else:
        verdict(to, f"{facts.title}: {facts.id} {facts.version}, a {facts.kind} for {found.game}")
        relations = [f"needs {' or '.join(f'{y.id} {y.range}' for y in x.alternatives)}" for x in facts.requires]
        relations += [f"conflicts with {x.id} {x.range}" for x in facts.conflicts]
        relations += [f"{x.id} {x.range} if present" for x in facts.optional]
        relations += [f"provides {x.id} {x.version}" for x in facts.provides]
        rows = [
            ("loaders", _loaders(facts)),
            ("game versions", facts.game_versions.text),
            ("relations", "; ".join(relations) or "none"),
        ]
    inside = [f"{x.id} {x.version} ({x.path})" if x.id else str(x.path) for x in found.embedded]
    rows.append(("placement", f"{found.placement} ({found.sure})"))
    if file.assembly is not None:
        rows += [*_built(file.assembly), ("size", size_text(one.size or 0))]
    else:
        rows += [
            ("code", _evidence(found)),
            ("every class", _every_class(one)),
            ("runs on", f"Java {code.java_major} and later" if code.java_major else ""),
            ("embeds", ", ".join(inside) or "nothing"),
            ("size", f"{size_text(one.size or 0)} in {found.files} files, {code.classes} classes"),
        ]
    rows.append(("SHA-256", one.sha256 or ""))
    show_pairs(to, rows)


def _evidence(found: "Scanned") -> str:
    evidence = found.code.evidence
    if evidence is None:
        return "none that a loader starts; --deep looks at every class" if found.code.classes else "none"
    if evidence.verdict == "clean":
        return "clean: no client-only code is reached"
    if evidence.verdict == "unused":
        return "unused: no entry class of these archives comes to it"
    return f"{evidence.verdict}: {' → '.join(evidence.chain)} ({evidence.why})"


def _every_class(one: "Inspection") -> str:
    """The counts of what no server can use, and the first of each."""
    deep = one.every_class
    if deep is None:
        return ""
    told = [
        f"{count} {what}" + (f" ({', '.join(f'{x.name}: {x.client}' for x in some[:3])}{' …' if count > 3 else ''})")
        for count, what, some in (
            (deep.unloadable_count, "no server can load", deep.unloadable),
            (deep.referring_count, "name client code", deep.referring),
        )
        if count
    ]
    unread = [f"{deep.unread} unreadable"] if deep.unread else []
    return f"{deep.classes}: " + ("; ".join([*told, *unread]) or "none needs client code")


def _built(found: "Assembly") -> list[tuple[str, str]]:
    return [
        ("built for", found.framework or f"not declared (format {found.metadata})"),
        ("references", ", ".join(f"{x.name} {x.version}" for x in found.references) or "nothing"),
    ]


def _render_archives(
    to: "Console", archives: list["Inspection"], findings: list["Finding"], call: Call, *, shelf: bool
) -> None:
    """The table of several archives."""
    files = [one.archive for one in archives if one.archive is not None]
    bad = sum(any(x.severity == "error" for x in one.findings) for one in files)
    unknown = sum(one.archive is not None and one.archive.facts is None for one in files)
    players = sum(one.archive is not None and one.archive.placement == "player" for one in files)
    told = [f"{bad} with errors" if bad else "", f"{unknown} without known metadata" if unknown else ""]
    told += [f"{players} client-only" if players else ""]
    total = size_text(sum(one.size for one in files))
    good = not any(x.severity == "error" for x in findings)
    what = f"{'a catalog with ' if shelf else ''}{len(files)} archives, {total}"
    verdict(to, ", ".join([what, *filter(None, told)]), good=good)
    columns = ("item", "release", "placement", "code", "loaders", "game versions", "Java", "size", "")
    rows = [_row(one) for one in files]
    call.table(to, columns, rows, right=("Java", "size"))
    deep = [
        (Path(one.path).name, str(x.classes), str(x.unloadable_count), str(x.referring_count))
        for one in archives
        if (x := one.every_class) is not None and (x.unloadable_count or x.referring_count)
    ]
    if deep:
        columns_deep = ("archive", "classes", "no server can load", "name client code")
        call.table(to, columns_deep, deep, right=columns_deep[1:])
    if any(row[2].endswith("*") for row in rows):
        say(to, "* not declared by the author, or the code shows otherwise")


def _row(file: "ScannedFile") -> tuple[str, ...]:
    """One archive as a row."""
    name, size = Path(file.path).name, size_text(file.size)
    mark = next((sign for sign, level in (("✗", "error"), ("!", "warning")) if _has(file, level)), "")
    if file.assembly is not None and (file.archive is None or file.archive.facts is None):
        return (name, file.assembly.version, "", file.assembly.framework, "", "", "", size, mark)
    found = file.archive
    if found is None:
        return (name, f"({file.problem})", "", "", "", "", "", size, mark)
    facts, evidence = found.facts, found.code.evidence
    java = str(found.code.java_major or "")
    if facts is None:
        return (name, "?", "", "", "", "", java, size, mark)
    loaders = _loaders(facts)
    placement = found.placement if found.sure == "declared" else f"{found.placement}*"
    verdict_of = evidence.verdict if evidence is not None else ""
    return (
        facts.written or facts.id,
        facts.version.text,
        placement,
        verdict_of,
        loaders,
        facts.game_versions.text,
        java,
        size,
        mark,
    )


def _has(file: "ScannedFile", severity: str) -> bool:
    return any(one.severity == severity for one in file.findings)

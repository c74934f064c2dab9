"""Words for players: the instructions of a kit, and what is wrong with a folder."""

from collections.abc import Iterator, Mapping, Sequence

from rhizon.core.kit.judge import BLOCKING, Fit, Problem
from rhizon.core.model.game_parts import System
from rhizon.core.model.kit import KitManifest

__all__ = ["SYSTEMS", "Texts", "fit_lines", "problem_words", "readme", "steps_for"]

SYSTEMS: tuple[System, ...] = ("windows", "linux", "macos")
Texts = Mapping[str, str]  # sentences by their names, with {words} to fill in


def _say(texts: Texts, name: str, **words: object) -> str:
    text = texts[name]
    for word, value in words.items():
        text = text.replace(f"{{{word}}}", str(value))
    return text


def problem_words(texts: Texts, problem: Problem) -> tuple[str, str]:
    """What is wrong, and what to do."""
    words = {
        "title": problem.title or problem.path,
        "have": problem.have,
        "need": problem.need,
        "path": problem.path,
    }
    return _say(texts, f"problem.{problem.kind}", **words), _say(texts, f"step.{problem.kind}", **words)


def fit_lines(texts: Texts, fit: Fit, pieces: int) -> Iterator[str]:
    """The whole answer for a person."""
    if fit.verdict == "yes":
        yield _say(texts, "whole-set", count=pieces)
    order = sorted(fit.problems, key=lambda one: one.kind not in BLOCKING)
    for problem in (one for one in order if one.kind != "unknown"):
        what, step = problem_words(texts, problem)
        yield f"{what} {step}"
    unsure = [one.title or one.path for one in order if one.kind == "unknown"]
    if unsure:
        yield f"{_say(texts, 'not-known', titles=', '.join(unsure))} {texts['step.unknown']}"


def steps_for(texts: Texts, kit: KitManifest, system: System, delete: Sequence[str] = ()) -> Iterator[str]:
    """What a player of a system does, step by step, from the download to the game."""
    yield _say(texts, "close")
    where = kit.folders.get(system)
    yield _say(texts, "open-folder", folder=where) if where else _say(texts, "open-some-folder")
    if delete:
        yield " ".join([_say(texts, "delete"), *delete])
    packed = any(piece.packed for piece in kit.pieces) or kit.overlay or (kit.loader is not None and kit.loader.files)
    if packed:
        yield _say(texts, "copy")
    loader = kit.loader
    if loader is not None:
        name = f"{loader.title} {loader.build.text}"
        if loader.files:
            yield _say(texts, "copy-loader", loader=name)
        else:
            yield _say(texts, "loader-yourself", loader=name, how=loader.how)
    for piece in kit.pieces:
        if not piece.packed and piece.archive is not None:
            yield _say(
                texts,
                "fetch",
                title=piece.title,
                version=piece.version.text,
                page=piece.page or _say(texts, "fetch-nowhere"),
                file=piece.archive.path,
                place=piece.place,
            )
    yield from kit.steps
    if not kit.join:
        yield _say(texts, "no-address")


def readme(
    texts: Texts, kit: KitManifest, systems: Sequence[System], delete: Sequence[str] = (), *, partial: bool = False
) -> str:
    """The text that is in a kit, with a part for each system."""
    lines = [kit.title, "=" * len(kit.title), ""]
    lines += [kit.description, ""] if kit.description else []
    lines += [_say(texts, "changes-only"), ""] if partial else []
    lines += [_say(texts, "needs", game=kit.game_title, version=kit.game_version)]
    if kit.also_game:
        lines += [_say(texts, "also-game", versions=", ".join(kit.also_game), protocol=kit.protocol)]
    if kit.loader is not None:
        lines += [_say(texts, "needs-loader", loader=f"{kit.loader.title} {kit.loader.build.text}")]
    lines += [_say(texts, "join-at", join=kit.join) if kit.join else _say(texts, "no-address")]
    lines += [_say(texts, "password")]
    for system in systems:
        lines += ["", _say(texts, f"system.{system}"), "-" * len(_say(texts, f"system.{system}"))]
        lines += [f"{number}. {step}" for number, step in enumerate(steps_for(texts, kit, system), 1)]
        if delete:
            lines += ["", _say(texts, "delete"), *(f"   {path}" for path in delete)]
    optional = [one for one in kit.pieces if one.optional]
    if optional:
        lines += ["", _say(texts, "optional")]
        lines += [
            f"   {one.title} {one.version.text}" + (f": {one.summary}" if one.summary else "") for one in optional
        ]
    if kit.contact:
        lines += ["", _say(texts, "ask", contact=kit.contact)]
    return "\n".join([*lines, ""])

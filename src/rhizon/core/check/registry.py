"""All rules, each with what it is about. A new one is a function and a line here."""

from collections.abc import Callable, Collection, Iterable
from typing import Literal, NamedTuple

import msgspec

from rhizon.core.check import content_rules, machine_rules, port_rules, settings_rules, together_rules, world_rules
from rhizon.core.check.observation import Observation
from rhizon.core.finding import Finding
from rhizon.core.model.game import GameDefinition

__all__ = ["EVERYTHING", "RULES", "Rule", "Topic", "as_this_game", "foreseen"]

Topic = Literal["runtime", "content", "settings", "ports", "memory", "disk", "world", "licence", "past"]
EVERYTHING: tuple[Topic, ...] = (
    *("runtime", "content", "settings", "ports", "memory", "disk", "world", "licence", "past"),
)


class Rule(NamedTuple):
    """A pure function over an observation, and what it is about."""

    topic: Topic
    find: Callable[[Observation], Iterable[Finding]]


RULES: tuple[Rule, ...] = (
    Rule("runtime", machine_rules.runtime),
    Rule("runtime", machine_rules.runtime_environment),
    Rule("runtime", machine_rules.programs),
    Rule("runtime", machine_rules.libraries),
    Rule("runtime", machine_rules.runtime_for_content),
    Rule("licence", settings_rules.licence_answer),
    Rule("content", content_rules.wrong_by_itself),
    Rule("content", content_rules.for_this_server),
    Rule("content", content_rules.copies),
    Rule("content", content_rules.conflicts),
    Rule("content", content_rules.together),
    Rule("content", content_rules.places),
    Rule("content", content_rules.enabled),
    Rule("content", content_rules.order),
    Rule("content", content_rules.leftovers),
    Rule("settings", settings_rules.unreadable),
    Rule("settings", settings_rules.encodings),
    Rule("settings", settings_rules.values),
    Rule("settings", settings_rules.places_agree),
    Rule("settings", settings_rules.repeated_keys),
    Rule("settings", settings_rules.unknown_keys),
    Rule("settings", settings_rules.writable),
    Rule("settings", together_rules.settings_together),
    Rule("ports", port_rules.numbers),
    Rule("ports", port_rules.same_number),
    Rule("ports", port_rules.in_use),
    Rule("ports", port_rules.absent_address),
    Rule("memory", machine_rules.memory),
    Rule("disk", machine_rules.disk),
    Rule("disk", machine_rules.rights),
    Rule("disk", machine_rules.open_files),
    Rule("disk", machine_rules.clock),
    Rule("world", world_rules.usable),
    Rule("world", world_rules.complete),
    Rule("world", world_rules.in_use),
    Rule("world", world_rules.newer),
    Rule("world", world_rules.shared),
    Rule("past", world_rules.last_run),
)


def foreseen(seen: Observation, topics: Collection[Topic] = EVERYTHING) -> list[Finding]:
    """What the rules on these topics find, in their order, each once."""
    found: list[Finding] = []
    for rule in (one for one in RULES if one.topic in topics):
        here = list(rule.find(seen))
        found += as_this_game(seen.game, here) if rule.topic == "content" else here
    return list(dict.fromkeys(found))


def as_this_game(game: GameDefinition, findings: Iterable[Finding]) -> list[Finding]:
    """Findings on content with the severity that they have for a game: where content fails alone, the server starts
    without it."""
    if all(one.fatal for one in game.log.failures):
        return list(findings)
    return [msgspec.structs.replace(one, severity="warning") if one.severity == "error" else one for one in findings]

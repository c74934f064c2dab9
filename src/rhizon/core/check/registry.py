"""All rules, each with what it is about. A new one is a function and a line here."""

from collections.abc import Callable, Collection, Iterable
from typing import Literal, NamedTuple

from rhizon.core.check import content_rules, machine_rules, port_rules, settings_rules, world_rules
from rhizon.core.check.observation import Observation
from rhizon.core.finding import Finding

__all__ = ["EVERYTHING", "RULES", "Rule", "Topic", "foreseen"]

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
    Rule("runtime", machine_rules.runtime_for_content),
    Rule("licence", settings_rules.licence_answer),
    Rule("content", content_rules.wrong_by_itself),
    Rule("content", content_rules.for_this_server),
    Rule("content", content_rules.copies),
    Rule("content", content_rules.conflicts),
    Rule("content", content_rules.together),
    Rule("content", content_rules.places),
    Rule("content", content_rules.enabled),
    Rule("content", content_rules.leftovers),
    Rule("settings", settings_rules.unreadable),
    Rule("settings", settings_rules.encodings),
    Rule("settings", settings_rules.values),
    Rule("settings", settings_rules.repeated_keys),
    Rule("settings", settings_rules.unknown_keys),
    Rule("settings", settings_rules.writable),
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
    Rule("world", world_rules.newer),
    Rule("past", world_rules.last_run),
)


def foreseen(seen: Observation, topics: Collection[Topic] = EVERYTHING) -> list[Finding]:
    """What the rules on these topics find, in their order, each once."""
    found = (one for rule in RULES if rule.topic in topics for one in rule.find(seen))
    return list(dict.fromkeys(found))

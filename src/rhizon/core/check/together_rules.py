"""Rules on settings that need each other, as the game's definition states them."""

from collections.abc import Iterator

import msgspec

from rhizon.core.check.finding import warning
from rhizon.core.check.machine_rules import give_heap
from rhizon.core.check.observation import Observation
from rhizon.core.check.settings_rules import settings_now
from rhizon.core.finding import Finding
from rhizon.core.settings.apply import format_value
from rhizon.core.words import command_line

__all__ = ["settings_together"]


def settings_together(seen: Observation) -> Iterator[Finding]:
    """Values that are right by themselves and go wrong with each other, or with the heap."""
    now = {name: one.default for name, one in seen.game.settings.items()} | settings_now(seen)
    for rule in seen.game.settings_together:
        if not all(test.holds(now[name]) for name, test in rule.when.items()):
            continue
        unmet = {name: test for name, test in rule.needs.items() if not test.holds(now[name])}
        short = seen.instance.heap_mib < rule.least_heap_mib
        if not unmet and not short:
            continue
        values = [f"{name} {format_value(now[name])}" for name in dict.fromkeys([*rule.when, *unmet])]
        heap = [f"{seen.instance.heap_mib} MiB of heap"] if short else []
        what = f"{rule.what} (now {', '.join([*values, *heap])})"
        changes = [f"{name}={format_value(test.nearest(now[name]))}" for name, test in unmet.items()]
        remedy = command_line("rhizon", "set", seen.folder, *changes) if unmet else give_heap(seen, rule.least_heap_mib)
        subject = ", ".join(dict.fromkeys([*rule.when, *rule.needs]))
        found = warning("settings-together", subject, what, f"For instance: {remedy}")
        yield msgspec.structs.replace(found, severity=rule.severity)

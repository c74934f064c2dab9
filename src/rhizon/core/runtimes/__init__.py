"""Language runtimes by family: how a program is recognised, which flags it takes, how it says that it failed.

Finding programs and running them is :mod:`rhizon.adapters.runtimes`. A family is described in a game
definition, or, where archives have to be read for it, one new file and one line in ``FAMILIES``.
"""

from rhizon.core.model.game_parts import RuntimeNeeds
from rhizon.core.runtimes import java, mono
from rhizon.core.runtimes.described import described_family
from rhizon.core.runtimes.family import FailureSign, Family, RuntimeReport

__all__ = ["FAMILIES", "FailureSign", "Family", "RuntimeReport", "family_of"]

FAMILIES: dict[str, Family] = {"java": java.FAMILY, "mono": mono.FAMILY}


def family_of(needs: RuntimeNeeds) -> Family | None:
    """The family that a game needs; None for a native program."""
    if needs.described is not None:
        return described_family(needs, needs.described)
    return FAMILIES.get(needs.family)

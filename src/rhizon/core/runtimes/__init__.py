"""Language runtimes by family: how a program is recognised, which flags it takes, how it says that it failed.

Finding programs and running them is :mod:`rhizon.adapters.runtimes`. A new family is one new file and one line in
``FAMILIES``.
"""

from rhizon.core.runtimes import java, mono
from rhizon.core.runtimes.family import FailureSign, Family, RuntimeReport

__all__ = ["FAMILIES", "FailureSign", "Family", "RuntimeReport"]

FAMILIES: dict[str, Family] = {"java": java.FAMILY, "mono": mono.FAMILY}

"""Metadata that a .NET assembly carries itself. Expressions are ``name``, ``version``, ``framework``, ``title`` and the
like (attributes such as AssemblyTitle, in small letters), ``metadata KEY`` (AssemblyMetadata), ``reference NAME`` (the
version of an assembly that it was built against) and ``range NAME`` (that and later ones of the same first number: by
convention another one means that what was built before does not fit). A fourth number that is 0 is left out."""

from rhizon.core.archives.assembly import Assembly
from rhizon.core.archives.metadata.fields import Fields
from rhizon.core.archives.metadata.flat import FlatFields

__all__ = ["from_assembly"]


def from_assembly(assembly: Assembly) -> Fields:
    """One assembly as metadata."""
    values = {"name": assembly.name, "version": assembly.version.removesuffix(".0"), "framework": assembly.framework}
    for one in assembly.references:
        least = one.version.removesuffix(".0")
        values[f"reference {one.name}"] = least
        values[f"range {one.name}"] = f">={least}, <{int(least.partition('.')[0]) + 1}"
    return FlatFields(values | assembly.attributes)

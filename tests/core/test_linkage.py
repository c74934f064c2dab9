"""Content against the server and the libraries that are really there: Java archives and .NET assemblies."""

import unittest
import zipfile
from pathlib import Path

from rhizon.core.archives.assembly import Assembly, AssemblyReference
from rhizon.core.archives.assembly_set import assemblies_together
from rhizon.core.archives.assembly_types import AssemblyType, Use
from rhizon.core.archives.classes import archive_classes
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.linkage import content_linkage
from rhizon.core.archives.scan import client_namespaces, scan
from tests.support import CATALOG, TARNHOLT

MODS = Path(__file__).parents[1] / "linkage"
# What a mod of tests/linkage/ uses that is not there; each was compiled against releases that have it.
LACKS = {
    "server-member": "tarnholt.api.Marsh.flood, which tarnholt-server.jar",
    "server-class": "tarnholt.weather.Storm, which tarnholt-server.jar",
    "library-member": "marshlib.Lamps.dim, which marshlib.jar",
    "library-field": "marshlib.Lamps.wicks, which marshlib.jar",
    "library-constructor": "new marshlib.Lamps, which marshlib.jar",
    "asked-first": "",  # of no package that is here: an optional library
    "caught": "",
    "never-called": "",
    "fine": "",
}


def within(archive: str, entry: str) -> Archive:
    with zipfile.ZipFile(CATALOG / archive) as whole:
        return Archive(whole.read(entry), entry)


class Java(unittest.TestCase):
    def test_what_a_mod_uses_is_there_or_told(self) -> None:
        beside = {
            "tarnholt-server.jar": archive_classes(within("server/tarnholt-server-4.2.zip", "tarnholt-server.jar")),
            "keelson.jar": archive_classes(within("loaders/keelson-3.1.0.zip", "loader/keelson.jar")),
        }
        library = Archive((CATALOG / "archives/marshlib-2.4.1.jar").read_bytes(), "marshlib.jar")
        for name, lack in LACKS.items():
            with self.subTest(name):
                archive = Archive((MODS / f"{name}.jar").read_bytes(), f"{name}.jar")
                facts = scan(archive, [TARNHOLT]).facts
                assert facts is not None
                content = {archive.source: archive_classes(archive), "marshlib.jar": archive_classes(library)}
                entries = {archive.source: facts.entry}
                found = content_linkage(content, entries, beside, client_namespaces(TARNHOLT))
                self.assertEqual(len(found), bool(lack))
                for one in found:
                    self.assertIn(f"it uses {lack} does not have: ", one.what)
                    self.assertEqual((one.code, one.subject), ("built-for-another-version", archive.source))


def kind(
    name: str, base: str = "System.Object@mscorlib", *interfaces: str, members: str = "", **more: bool
) -> AssemblyType:
    flags = {"abstract": False, "interface": False, "open_constructor": True} | more
    return AssemblyType(name=name, base=base, interfaces=interfaces, members=tuple(members.split()), **flags)


def assembly(name: str, version: str = "1.0.0.0", asks: str = "", *types: AssemblyType, **more: object) -> Assembly:
    asked = (one.split("=") for one in asks.split())
    references = tuple(AssemblyReference(name=one[0], version=one[1], signed_by="".join(one[2:])) for one in asked)
    return Assembly(
        name=name,
        version=version,
        framework="",
        metadata="",
        references=references,
        types=types,
        **more,  # type: ignore[arg-type]
    )


def lamp(members: str = "Light/1", base: str = "System.Object@mscorlib", **more: bool) -> AssemblyType:
    """A type that the loader makes an object of."""
    return kind("L", base, "Wick.ILamp@Wick", members=members, **more)


def asks(references: str = "", *types: AssemblyType, **more: object) -> Assembly:
    return assembly("A", "1.0.0.0", references, *types, **more)


def uses(name: str, member: str = "") -> Assembly:
    return asks(uses=(Use(assembly="Wick", type=name, member=member),))


WICK = assembly(
    "Wick",
    "3.1.0.0",
    "",
    kind("Wick.ILamp", "", members="Light/1", abstract=True, interface=True),
    kind("Wick.Oil", members="Pour/1 .ctor/0 level"),
)
MISSING, MEMBER, VERSION = "assembly-missing", "assembly-member-missing", "assembly-version"
ASSEMBLIES: tuple[tuple[str, Assembly, str], ...] = (
    ("fine", asks("mscorlib=4.0.0.0 System.Core=4.0.0.0 Wick=3.0.0.0", lamp()), ""),
    ("other major", asks("Wick=2.0.0.0"), f"error {VERSION}"),
    ("later minor", asks("Wick=3.4.0.0"), f"note {VERSION}"),
    ("of another author", asks("Wick=3.1.0.0=7a"), "note assembly-token"),
    ("missing, in a body", asks("Tallow=1.0.0.0"), f"warning {MISSING}"),
    ("missing base", asks("Tallow=1.0.0.0", kind("L", "Tallow.Base@Tallow")), f"error {MISSING}"),
    ("client base", asks("Screen=1.0.0.0", kind("L", "Screen.Window@Screen")), "error client-only-code"),
    ("client, in a body", asks("Screen=1.0.0.0"), f"warning {MISSING}"),
    ("no such base", asks("", kind("L", "Wick.Gone@Wick")), f"error {MEMBER}"),
    ("interface not met", asks("", lamp("Light/0")), f"error {MEMBER}"),
    ("met under the interface's name", asks("", lamp("Wick.ILamp.Light/1")), ""),
    ("met by its base", asks("", lamp("", "B"), kind("B", members="Light/1")), ""),
    ("met by an unknown base", asks("", lamp("", "System.Lamp@System")), ""),
    ("no such member", uses("Wick.Oil", "Pour/2"), f"warning {MEMBER}"),
    ("no such type", uses("Wick.Ash"), f"warning {MEMBER}"),
    ("a field", uses("Wick.Oil", "level"), ""),
    ("a method of every object", uses("Wick.Oil", "ToString/0"), ""),
    ("no constructor", asks("", lamp(open_constructor=False)), "error entry-unusable"),
    ("abstract", asks("", lamp(abstract=True)), "error entry-unusable"),
    ("native", asks(libraries=("libtide.so",)), "warning native-code"),
    ("of the system", asks(libraries=("libc",)), "note native-code"),
    ("mixed", asks(mixed=True), "warning native-code"),
)


class Net(unittest.TestCase):
    def test_what_an_assembly_asks_for_is_there_or_told(self) -> None:
        for what, one, expected in ASSEMBLIES:
            with self.subTest(what):
                found = assemblies_together(
                    {"a.dll": one}, beside=[WICK], whole=True, client=["Screen"], entry_type="Wick.ILamp"
                )
                self.assertEqual(", ".join(f"{each.severity} {each.code}" for each in found), expected)
        alone = assemblies_together({"a.dll": ASSEMBLIES[3][1]})
        self.assertEqual(list(alone), [], "what is not here may come with the server")


if __name__ == "__main__":
    unittest.main()

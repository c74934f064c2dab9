"""Verdicts on .NET assemblies beside what really happens: python bench/placement/lamps.py

Compiles each pattern with mcs, some against other versions of what they use, asks Rhizon what it says of each beside
the server's and the loader's own assemblies, and starts the Gloamwick server on Mono with each alone. A lamp "stays
dark" when the loader says so. Needs mcs and mono.
"""

import json
import socket
import subprocess
import tempfile
import zipfile
from collections import Counter
from pathlib import Path
from typing import NamedTuple

from rhizon.core.archives.assembly import read_assembly
from rhizon.core.archives.assembly_set import assemblies_together

ROOT = Path(__file__).parents[2]
CATALOG = ROOT / "src/rhizon/world/harbour/catalog"
START_SECONDS = 60
IS = ": Lampwright.ILamp"
LIGHT = 'public string[] Light(Lampwright.Wick w) {{ {0} return new[] {{ "jar" }}; }}'
SCREEN = 'using System.Reflection; [assembly: AssemblyVersion("1.0.0.0")] namespace Gloam.Screen { public class Window { public int Width; public static void Draw() {} public virtual void Open() {} } public interface IDrawn { } public struct Dot { public int X; } public class LostFrame : System.Exception { } [System.AttributeUsage(System.AttributeTargets.All)] public class DrawnAttribute : System.Attribute { } }'
TALLOW_NEW = 'using System.Reflection; [assembly: AssemblyVersion("1.2.0.0")] namespace Tallow { public class Wax { public static int Melt(int n) { return n; } public static int Melt(int n, int m) { return n; } public int Warmth; public static int Drip() { return 1; } } public class Base { public virtual void Go() {} } public interface IMelts { void Melt(); void Cool(); } public class Fresh { } }'
TALLOW_OLD = 'using System.Reflection; [assembly: AssemblyVersion("1.1.0.0")] namespace Tallow { public class Wax { public static int Melt(int n) { return n; } public static int Drip() { return 1; } } public class Base { public virtual void Go() {} } public interface IMelts { void Melt(); } }'


class Lamp(NamedTuple):
    """A pattern: the body of ``Light``, members and types beside it, what the class is; ``tallow``: the library lies
    beside it, "old" in a release before the one that it was compiled against."""

    name: str
    body: str = ""
    more: str = ""
    types: str = ""
    head: str = f"public class Lamp {IS}"
    light: str = LIGHT
    tallow: str = ""
    old_loader: bool = False


W = "Gloam.Screen.Window"
LAMPS = [
    Lamp("plain"),
    Lamp("linq", body="System.Linq.Enumerable.Count(new[] { 1 });"),
    Lamp("generic", body="new System.Collections.Generic.List<int>().Add(1);"),
    Lamp("client-base", head=f"public class Lamp : {W}, Lampwright.ILamp"),
    Lamp("client-interface", head=f"public class Lamp {IS}, Gloam.Screen.IDrawn"),
    Lamp("other-type-client-base", types=f"public class Panel : {W} {{}}"),
    Lamp("nested-client-base", more=f"class Panel : {W} {{}}"),
    Lamp("client-exception", types="public class Lost : Gloam.Screen.LostFrame {}"),
    Lamp("client-static", body=f"{W}.Draw();"),
    Lamp("client-new", body=f"new {W}();"),
    Lamp("client-guarded", body="if (w == null) { Only.Go(); }", types=f"static class Only {{ public static void Go() {{ {W}.Draw(); }} }}"),
    Lamp("client-inline-guard", body=f"if (w == null) {{ {W}.Draw(); }}"),
    Lamp("client-unused-method", more=f"void Unused() {{ {W}.Draw(); }}"),
    Lamp("client-field", more=f"{W} kept;"),
    Lamp("client-field-struct", more="Gloam.Screen.Dot dot;"),
    Lamp("client-static-field", more=f"static {W} kept;"),
    Lamp("client-parameter", more=f"public void Show({W} s) {{}}"),
    Lamp("client-return", more=f"public {W} Show() {{ return null; }}"),
    Lamp("client-attribute", head=f"[Gloam.Screen.Drawn] public class Lamp {IS}"),
    Lamp("client-generic-argument", more=f"System.Collections.Generic.List<{W}> all;"),
    Lamp("client-typeof", body=f"System.Console.Out.Flush(); var t = typeof({W});"),
    Lamp("client-cast", body=f"object o = w; var s = o as {W};"),
    Lamp("client-catch", body="try { System.Console.Out.Flush(); } catch (Gloam.Screen.LostFrame) { }"),
    Lamp("client-lambda", body=f"System.Action a = () => {W}.Draw();"),
    Lamp("client-lambda-run", body=f"System.Action a = () => {W}.Draw(); a();"),
    Lamp("client-static-constructor", more=f"static Lamp() {{ {W}.Draw(); }}"),
    Lamp("client-caught", body="try { Go(); } catch (System.Exception) { }", more=f"static void Go() {{ {W}.Draw(); }}"),
    Lamp("library-missing-base", head="public class Lamp : Tallow.Base, Lampwright.ILamp"),
    Lamp("library-missing-call", body="Tallow.Wax.Melt(1);"),
    Lamp("library-here", body="Tallow.Wax.Melt(1);", tallow="new"),
    Lamp("library-here-base", head="public class Lamp : Tallow.Base, Lampwright.ILamp", tallow="new"),
    Lamp("library-old-same-member", body="Tallow.Wax.Drip();", tallow="old"),
    Lamp("library-old-no-method", body="Tallow.Wax.Melt(1, 2);", tallow="old"),
    Lamp("library-old-no-field", body="var n = new Tallow.Wax().Warmth;", tallow="old"),
    Lamp("library-old-no-type", body="new Tallow.Fresh();", tallow="old"),
    Lamp("library-old-base-type", types="public class Sub : Tallow.Fresh {}", tallow="old"),
    Lamp("library-old-interface", types="public class M : Tallow.IMelts { public void Melt() {} public void Cool() {} }", tallow="old"),
    Lamp("old-loader", light='public string[] Light() {{ {0} return new[] {{ "jar" }}; }}', old_loader=True),
    Lamp("abstract", head=f"public abstract class Lamp {IS}"),
    Lamp("private-constructor", more="Lamp() {}"),
    Lamp("constructor-arguments", more="public Lamp(int n) {}"),
    Lamp("internal-class", head=f"class Lamp {IS}"),
    Lamp("native-import", more='[System.Runtime.InteropServices.DllImport("libtide")] static extern int tide();'),
    Lamp("native-called", body="tide();", more='[System.Runtime.InteropServices.DllImport("libtide")] static extern int tide();'),
    Lamp("native-libc", body="getpid();", more='[System.Runtime.InteropServices.DllImport("libc")] static extern int getpid();'),
    Lamp("two-lamps", types=f"public class Second {IS} {{ {LIGHT.format('')} }}"),
    Lamp("lamp-by-base", types=f"public class Base {IS} {{ {LIGHT.format('')} }}", head="public class Lamp : Base", light="public void Other() {{ {0} }}"),
]  # fmt: skip


def mcs(out: Path, source: str, *references: Path) -> None:
    file = out.with_suffix(".cs")
    file.write_text(source)
    command = ["mcs", "-target:library", f"-out:{out}", *(f"-r:{one}" for one in references), str(file)]
    done = subprocess.run(command, capture_output=True, text=True)
    if done.returncode:
        raise SystemExit(done.stdout + done.stderr)


def unzip(archive: Path, into: Path) -> None:
    with zipfile.ZipFile(archive) as found:
        found.extractall(into)


def source(lamp: Lamp) -> str:
    said = f'[assembly: AssemblyVersion("1.0.0.0")] [assembly: AssemblyMetadata("id", "{lamp.name}")]'
    said += ' [assembly: AssemblyMetadata("gloamwick", ">=1.1")]'
    return (
        f"using System.Reflection; {said}\n{lamp.types}\n{lamp.head} {{ {lamp.more} {lamp.light.format(lamp.body)} }}\n"
    )


def happens(lamp: Lamp, made: Path, tallow: Path | None, work: Path) -> str:
    home = work / f"run-{lamp.name}"
    unzip(CATALOG / "server/gloamwick-1.2.zip", home)
    unzip(CATALOG / "loaders/lampwright-3.1.0.zip", home)
    (home / "lamps").mkdir()
    (home / "lamps" / made.name).write_bytes(made.read_bytes())
    if tallow is not None:
        (home / "lamps/Tallow.dll").write_bytes(tallow.read_bytes())
    (home / "lamps/lit.json").write_text(json.dumps({"lit": [lamp.name]}))
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    (home / "gloamwick.json").write_text(json.dumps({"wire": {"port": port, "bind": "127.0.0.1"}}))
    done = subprocess.run(
        ["mono", "GloamHost.exe"], cwd=home, input="douse\n", text=True, capture_output=True, timeout=START_SECONDS
    )
    text = done.stdout + done.stderr
    dark = [line for line in text.splitlines() if f"stays dark: {lamp.name}" in line]
    if dark:
        return dark[0].partition(f"{lamp.name}: ")[2].partition(":")[0]
    if f"lit {lamp.name}" not in text:
        raise SystemExit(f"{lamp.name}: neither lit nor dark:\n{text}")
    return "lit"


def verdict(made: Path, tallow: Path | None, beside: list[Path]) -> str:
    files = [made, *([tallow] if tallow is not None else [])]
    assemblies = {file.name: read_assembly(file.read_bytes()) for file in files}
    own = [read_assembly(file.read_bytes()) for file in beside]
    found = assemblies_together(
        {name: one for name, one in assemblies.items() if one is not None},
        beside=[one for one in own if one is not None],
        whole=True,
        client=["Gloam.Screen"],
        entry_type="Lampwright.ILamp",
    )
    mine = [one.severity for one in found if one.subject == made.name and one.severity != "note"]
    return "certain" if "error" in mine else "possible" if mine else "clean"


def main() -> None:
    rows = Counter[tuple[str, str]]()
    with tempfile.TemporaryDirectory() as scratch:
        work = Path(scratch)
        loader, old = work / "loader", work / "old"
        unzip(CATALOG / "server/gloamwick-1.2.zip", loader)
        unzip(CATALOG / "loaders/lampwright-3.1.0.zip", loader)
        unzip(CATALOG / "loaders/lampwright-2.0.0.zip", old)
        for folder in ("screen", "new", "older", "made"):
            (work / folder).mkdir()
        screen, new, older = work / "screen/Gloam.Screen.dll", work / "new/Tallow.dll", work / "older/Tallow.dll"
        mcs(screen, SCREEN)
        mcs(new, TALLOW_NEW)
        mcs(older, TALLOW_OLD)
        for lamp in LAMPS:
            made = work / "made" / f"{lamp.name}.dll"
            mcs(made, source(lamp), (old if lamp.old_loader else loader) / "Lampwright.dll", screen, new)
            tallow = {"new": new, "old": older}.get(lamp.tallow)
            said = verdict(made, tallow, [loader / "GloamHost.exe", loader / "Lampwright.dll"])
            what = happens(lamp, made, tallow, work)
            rows[said, "lit" if what == "lit" else "dark"] += 1
            odd = (said, what == "lit") in (("certain", True), ("clean", False))
            print(f"{lamp.name:>28} {said:>9} {what}{'   <- wrong' if odd else ''}", flush=True)
    print(f"\n{len(LAMPS)} patterns\n{'':>10} {'dark':>5} {'lit':>5}")
    for said in ("certain", "possible", "clean"):
        print(f"{said:>10} {rows[said, 'dark']:>5} {rows[said, 'lit']:>5}")


if __name__ == "__main__":
    main()

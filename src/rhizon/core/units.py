"""Quantities as a person reads them."""

__all__ = ["counted", "mib_text", "size_text"]


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

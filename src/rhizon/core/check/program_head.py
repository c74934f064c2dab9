"""For which machine a program was made, by its first bytes.

The numbers are those of the System V ABI (e_machine of ELF), the PE format and the Mach-O format.
"""

__all__ = ["HEAD", "made_for", "own_name"]

HEAD = 20  # bytes that are looked at

_ELF = {3: "x86", 21: "POWER", 22: "s390x", 40: "ARM", 62: "x86-64", 183: "ARM64", 243: "RISC-V", 258: "LoongArch"}
_MACH = (b"\xfe\xed\xfa\xce", b"\xfe\xed\xfa\xcf", b"\xce\xfa\xed\xfe", b"\xcf\xfa\xed\xfe")
_OWN = {
    "x86-64": ("x86_64", "amd64"),
    "ARM64": ("aarch64", "arm64"),
    "x86": ("i386", "i486", "i586", "i686"),
    "ARM": ("armv6l", "armv7l", "armv8l"),
    "RISC-V": ("riscv64",),
    "POWER": ("ppc64", "ppc64le"),
    "s390x": ("s390x",),
    "LoongArch": ("loongarch64",),
}


def made_for(head: bytes) -> str:
    """A processor, "Windows" or "macOS"; "" for a script, and for what is not known."""
    if head.startswith(b"\x7fELF") and len(head) >= HEAD:
        return _ELF.get(int.from_bytes(head[18:20], "big" if head[5] == 2 else "little"), "")
    if head.startswith(b"MZ"):
        return "Windows"
    return "macOS" if head[:4] in _MACH else ""


def own_name(machine: str) -> str:
    """The same word for what the system says that its processor is (uname -m); "" where that is not known."""
    return next((name for name, words in _OWN.items() if machine.lower() in words), "")

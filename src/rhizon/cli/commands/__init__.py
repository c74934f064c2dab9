"""The table of commands. ``rhizon --help`` reads this and imports no command."""

from typing import NamedTuple

__all__ = ["COMMANDS", "SECTIONS", "Command"]


class Command(NamedTuple):
    """A command: the module below this package that defines ``command``, one line of help, its step of the job."""

    module: str
    summary: str
    section: str


SECTIONS = ("Try it", "Choose", "Provision", "Settings, memory, ports", "Run", "Keep", "Describe and publish")

COMMANDS: dict[str, Command] = {
    "demo": Command("demo", "The whole job on a made-up world, nothing else needed.", "Try it"),
    "inspect": Command("inspect", "What an archive, a folder of them, a list, a pack or a lock really is.", "Choose"),
    "solve": Command("solve", "One target and one release of everything that fit; writes the lock.", "Choose"),
    "explain": Command("explain", "Why is this item here, why this release, what if it went?", "Choose"),
    "targets": Command("targets", "Every candidate target against every item of the list.", "Choose"),
    "runtimes": Command("runtimes", "The language runtimes on this machine, and who uses them.", "Choose"),
    "provision": Command("provision", "A server in a folder, from a list, a pack, a lock or archives.", "Provision"),
    "run": Command("run", "Start the server here, with its console; Ctrl-C stops it cleanly.", "Run"),
    "stop": Command("stop", "Stop a server that runs, from another terminal.", "Run"),
    "settings": Command(
        "settings", "Every setting of a server: value, meaning, where, who set it.", "Settings, memory, ports"
    ),
    "set": Command("set", "Change settings; the server's own files keep all else.", "Settings, memory, ports"),
    "update": Command("update", "New releases, or a new version of the pack; your edits stay.", "Keep"),
    "undo": Command("undo", "Take back the last change, or go back to any kept state.", "Keep"),
    "backup": Command("backup", "Save world and settings, while the server runs too.", "Keep"),
    "restore": Command("restore", "Make a server what it was when a backup was made.", "Keep"),
    "repair": Command("repair", "Put back what was placed and is gone or changed.", "Keep"),
    "check": Command("check", "Is everything of a server still as it should be?", "Keep"),
    "list": Command("list", "The servers of this machine.", "Keep"),
    "forget": Command("forget", "Free what a server holds, and leave its files alone.", "Keep"),
    "memory": Command("memory", "How much memory a server needs, guessed and measured.", "Settings, memory, ports"),
    "ports": Command(
        "ports", "Who has which port, who listens, rules for firewall and router.", "Settings, memory, ports"
    ),
    "host": Command("host", "This machine: memory, cores, disk, limits, grants.", "Settings, memory, ports"),
    "lock": Command("lock", "What a server is made of, to make the same again.", "Keep"),
    "bom": Command("bom", "A bill of materials (CycloneDX) of what runs.", "Keep"),
    "store": Command("store", "The files that all servers of this machine share: status, verify, prune.", "Keep"),
    "catalog": Command("catalog", "Make a catalog from archives, or serve one over HTTP.", "Describe and publish"),
    "game": Command("game", "Game definitions: list, show, new, check, try.", "Describe and publish"),
    "completion": Command("completion", "Shell completion: prints the lines for your shell.", "Describe and publish"),
}

"""The table of commands. ``rhizon --help`` reads this and imports no command."""

from typing import NamedTuple

__all__ = ["COMMANDS", "FIRST_EVENING", "SECTIONS", "Command"]


class Command(NamedTuple):
    """A command: where it is defined (``module:name`` below this package), one line of help, its step of the job."""

    where: str
    summary: str
    section: str


TRY, CHOOSE, PROVISION, RUN = "Try it", "Choose", "Provision", "Run"
SHARE, RENTED, MACHINES = "Players", "Rented servers", "Several machines"
TUNE, KEEP, MANY, PUBLISH = "Settings, memory, ports", "Keep", "All servers of this machine", "Describe and publish"
SECTIONS = (TRY, CHOOSE, PROVISION, RUN, SHARE, RENTED, TUNE, KEEP, MANY, MACHINES, PUBLISH)

COMMANDS: dict[str, Command] = {
    "demo": Command("demo:demo", "Do the whole job on a made-up world.", TRY),
    "help": Command("help:help_", "Print a guide, or explain an error or a finding by its code.", TRY),
    "inspect": Command("inspect:inspect", "Show what an archive, a list, a pack or a lock really is.", CHOOSE),
    "solve": Command("solve:solve", "Choose one target and one release of everything; write the lock.", CHOOSE),
    "explain": Command("explain:explain", "Explain why an item is there and why in this release.", CHOOSE),
    "targets": Command("targets:targets", "Compare every candidate target with every item of a list.", CHOOSE),
    "runtimes": Command("runtimes:runtimes", "List the language runtimes of this machine.", CHOOSE),
    "provision": Command("provision:provision", "Make a server from a list, a pack, a lock or archives.", PROVISION),
    "adopt": Command("adopt:adopt", "Take over a server that was set up by hand.", PROVISION),
    "update": Command("update:update", "Install newer releases or another pack; your edits stay.", PROVISION),
    "start": Command("start:start", "Start servers in the background.", RUN),
    "run": Command("run:run", "Start a server with its console; Ctrl-C stops it cleanly.", RUN),
    "stop": Command("stop:stop", "Stop servers cleanly, from any terminal.", RUN),
    "restart": Command("restart:restart", "Stop servers and start them again; players are told.", RUN),
    "status": Command("status:status", "Show how servers are and what they use.", RUN),
    "wait": Command("wait:wait", "Wait until a server is ready or stopped, for scripts.", RUN),
    "console": Command("console:console", "Type into a running server's console.", RUN),
    "players": Command("players:players", "List online players; message, kick or ban them.", RUN),
    "log": Command("log:log", "Print the log of a server's runs.", RUN),
    "boots": Command("boots:boots", "Show how long the parts of a start took.", RUN),
    "report": Command("report:report", "Collect diagnostics into one archive, without secrets.", RUN),
    "schedule": Command("schedule:schedule", "Schedule backups, restarts and updates.", RUN),
    "service": Command("service:service", "Start servers when the machine boots (systemd).", RUN),
    "dev": Command("dev:dev", "Try each new build of a mod, for its developer.", RUN),
    "isolate": Command("isolate:isolate", "Find the content that makes a start fail.", RUN),
    "kit": Command("kit:kit", "Write a zip with all that players need to join.", SHARE),
    "match": Command("match:match", "Check whether a player's folder fits a server.", SHARE),
    "page": Command("page:page", "Write a page for players, which checks their folder in the browser.", SHARE),
    "remote": Command("remote:remote", "Describe rented servers that are reached by file transfer.", RENTED),
    "push": Command("push:push", "Send a server to a rented one; only what differs.", RENTED),
    "pull": Command("pull:pull", "Back up the worlds and settings of a rented server.", RENTED),
    "settings": Command("settings:settings", "List every setting of a server.", TUNE),
    "set": Command("set:set_", "Change settings in the server's own files.", TUNE),
    "memory": Command("memory:memory", "Estimate or measure how much memory a server needs.", TUNE),
    "ports": Command("ports:ports", "List or move ports; print firewall and router rules.", TUNE),
    "address": Command("address:address", "List the addresses of a server to hand out.", SHARE),
    "reach": Command("address:reach", "Find what keeps players from a server.", SHARE),
    "rename": Command("rename:rename", "Give a server another name or a note.", TUNE),
    "check": Command("check:check", "Check servers for problems; changes nothing.", KEEP),
    "repair": Command("repair:repair", "Put back placed files that are missing or changed.", KEEP),
    "undo": Command("undo:undo", "Take back the last change, or go back to any kept state.", KEEP),
    "backup": Command("backup:backup", "Back up worlds and settings, while a server runs too.", KEEP),
    "restore": Command("restore:restore", "Make a server what it was when a backup was made.", KEEP),
    "lock": Command("lock:lock", "Show or write the exact releases, to make the same server again.", KEEP),
    "bom": Command("bom:bom", "Make a bill of materials (CycloneDX).", KEEP),
    "list": Command("list:list_", "List the servers of this machine.", MANY),
    "host": Command("host:host", "Show memory, disk, limits and grants of this machine.", MANY),
    "clone": Command("clone:clone", "Make a second server like one that is there.", MANY),
    "move": Command("move:move", "Move a server to another folder or disk.", MANY),
    "delete": Command("delete:delete", "Remove a server; a backup of it stays.", MANY),
    "forget": Command("forget:forget", "Release what a server holds; its files stay.", MANY),
    "metrics": Command("metrics:metrics", "Print or serve figures for monitoring (OpenMetrics).", MANY),
    "store": Command("store:store", "Show, verify or prune the files that servers share.", MANY),
    "export": Command("export:export", "Write container, compose or Kubernetes files for a server.", MACHINES),
    "machines": Command("machines:machines", "Place servers on several machines; run Rhizon on all of them.", MACHINES),
    "catalog": Command("catalog:catalog", "Make a catalog from archives, or serve one over HTTP.", PUBLISH),
    "game": Command("game:game", "List, show, start, check or try game definitions.", PUBLISH),
    "completion": Command("completion:completion", "Print shell completion.", PUBLISH),
}

# What bare `rhizon` shows: the commands of a first evening, in the order in which one needs them.
FIRST_EVENING = (
    "demo",
    "inspect",
    "solve",
    "provision",
    "run",
    "stop",
    "list",
    "settings",
    "set",
    "check",
    "update",
    "backup",
)

"""From a folder and a log to a definition's text, with a remark wherever something is a guess."""

import json
import re
from collections.abc import Sequence
from typing import NamedTuple

from rhizon.core.describe.folder import FolderFacts
from rhizon.core.describe.log_found import LogFound, found_in_log
from rhizon.core.describe.settings_found import BY_ENDING, FoundKey, found_keys
from rhizon.core.describe.start_lines import SCRIPTS, StartLine, heap_of, start_lines, without_heap
from rhizon.core.settings.dialects import DIALECTS

__all__ = ["Proposal", "propose"]

ARCHIVES = ("jar", "zip", "dll", "pak")
_PLUGIN = re.compile(r"plugin", re.IGNORECASE)
FLAGS = (("true", "false"), ("yes", "no"), ("on", "off"))
DESCRIBED = {
    "python": ("Python", '["python3", "python"]', r"^Python (?P<version>(?P<major>\d+)[.\d]+)", "[]"),
    "node": (
        "Node.js",
        '["node", "nodejs"]',
        r"^v(?P<version>(?P<major>\d+)[.\d]+)",
        '["--max-old-space-size={heap_mib}"]',
    ),
}


class Proposal(NamedTuple):
    """A definition's text; what was found, in words; and what a person has to look at."""

    text: str
    found: tuple[str, ...]
    open: tuple[str, ...]


class _Program(NamedTuple):
    """How the server seems to be started."""

    family: str
    command: tuple[str, ...]
    files: tuple[str, ...]
    heap_mib: int
    why: str


def propose(ident: str, title: str, folder: FolderFacts, log: Sequence[str], log_path: str = "") -> Proposal:
    """The beginning of a definition of a game by a folder in which its server was set up by hand, and its log."""
    program = _program(folder)
    content = _content(folder)
    keys = found_keys(folder, tuple(content))
    world = _world(folder, keys, tuple(content))
    if world is not None and world.folder:
        keys = [one for one in keys if not one.file.startswith(f"{world.folder}/")]
    ports = [one for one in keys if one.kind == "port"]
    pieces = [file.name.rpartition(".")[0] for file in folder.files if file.folder in content]
    ids = sorted({re.sub(r"[-_]?v?\d.*$", "", name) for name in pieces})
    said = found_in_log(log, [int(one.value) for one in ports], ids)
    parts = _parts(ident, title, program, content, keys, world, said, log_path)
    found = [
        f"program: {' '.join(program.command)} ({program.why})",
        f"settings: {len(keys) - len(ports)} in {len({one.file for one in keys})} files",
        "ports: " + (", ".join(f"{one.name} {one.value}" for one in ports) or "none"),
        f"worlds: {world.folder or '.'}/, {world.why}" if world is not None else "worlds: none found",
        "content: " + (", ".join(content) or "no folder with archives"),
        f"ready: {said.ready_line.strip() or 'no line found'}",
    ]
    return Proposal("".join(parts), tuple(found), tuple(_open(program, ports, world, said, content, log)))


def _open(
    program: _Program,
    ports: Sequence[FoundKey],
    world: "_World | None",
    said: LogFound,
    content: dict[str, str],
    log: Sequence[str],
) -> list[str]:
    """What was not found, or is only a guess."""
    lacking = []
    if not program.command or program.why.startswith("nothing"):
        lacking.append("command: how the server is started")
    if not ports:
        lacking.append("ports: every port that it opens, and where its number is kept")
    if world is None:
        lacking.append("world: the folder of worlds, and the setting that names the one in use")
    if not said.ready:
        lacking.append("log.ready: the line that says players can join" + ("" if log else " (give a log with --log)"))
    if not content:
        lacking.append("folders, loaders: where content goes, and how archives say what they are")
    else:
        lacking.append("loaders.own.metadata: how archives say what they are")
    return [*lacking, "console.stop: the command that stops it; without one it is ended by a signal"]


def _program(folder: FolderFacts) -> _Program:
    """By a start script, else by what lies in the folder."""
    lines = start_lines(folder)
    if lines:
        return _by_line(lines[0], folder)
    jars = [one for one in folder.files if one.ending == "jar" and "/" not in one.path]
    if jars:
        jar = max(jars, key=lambda one: one.size)
        return _Program("java", ("{runtime}", "{runtime_flags}", "-jar", jar.path), (jar.path,), 0, "the largest jar")
    programs = [one for one in folder.files if one.executable and "/" not in one.path and one.ending not in SCRIPTS]
    for file in sorted(programs, key=lambda one: (not one.head.startswith(b"\x7fELF"), -one.size)):
        return _Program("none", (f"./{file.path}",), (file.path,), 0, "an executable file")
    for ending, family in (("exe", "mono"), ("py", "python"), ("js", "node")):
        for file in folder.files:
            if file.ending == ending and "/" not in file.path:
                return _Program(
                    family, ("{runtime}", "{runtime_flags}", file.path), (file.path,), 0, f"a .{ending} file"
                )
    return _Program("none", ("./server",), ("server",), 0, "nothing that can be started was found")


def _by_line(line: StartLine, folder: FolderFacts) -> _Program:
    words = without_heap(line.words)
    files = [word.replace("\\", "/").removeprefix("./") for word in words]
    named = tuple(one for one in files if folder.file(one) is not None)
    why = f"by {line.source}"
    if line.runtime:
        command = ("{runtime}", "{runtime_flags}", *words[1:])
    else:
        first = files[0]
        command = (f"./{first}", *words[1:])
    return _Program(line.runtime or "none", command, named[:1] or (files[0],), heap_of(line.words), why)


def _content(folder: FolderFacts) -> dict[str, str]:
    """Folders with archives, at most two deep, with the kind of content that their name says."""
    counts: dict[str, int] = {}
    for file in folder.files:
        if file.ending in ARCHIVES and file.folder and file.folder.count("/") < 2:
            counts[file.folder] = counts.get(file.folder, 0) + 1
    libraries = re.compile(r"(?:^|/)(?:lib|libs|libraries|versions|bin|cache|runtime)(?:/|$)", re.IGNORECASE)
    return {name: "plugin" if _PLUGIN.search(name) else "mod" for name in sorted(counts) if not libraries.search(name)}


class _World(NamedTuple):
    """Where worlds seem to be."""

    folder: str
    entry: str
    single_file: bool
    name: str
    setting: str
    why: str


def _world(folder: FolderFacts, keys: Sequence[FoundKey], content: tuple[str, ...]) -> _World | None:
    """A setting whose value is the name of a folder, or of a file without its ending, tells."""
    for one in sorted(keys, key=lambda one: (one.file.count("/"), one.name != "world_name")):
        value = one.value.strip()
        if one.kind != "text" or not re.fullmatch(r"[\w .-]{1,64}", value):
            continue
        for path in folder.folders:
            around, _, name = path.rpartition("/")
            if name == value and path not in content and not one.file.startswith(f"{path}/"):
                why = f"{one.file}: {one.key} names the folder {path}"
                return _World(around, "{name}", False, value, one.name, why)
        for file in folder.files:
            stem, _, ending = file.name.rpartition(".")
            if stem == value and file.folder and ending not in (*BY_ENDING, *SCRIPTS, "log"):
                why = f"{one.file}: {one.key} names the file {file.path}"
                return _World(file.folder, f"{{name}}.{ending}", True, value, one.name, why)
    return None


def _parts(
    ident: str,
    title: str,
    program: _Program,
    content: dict[str, str],
    keys: Sequence[FoundKey],
    world: _World | None,
    said: LogFound,
    log_path: str,
) -> list[str]:
    """The text of the definition, table by table."""
    words = ", ".join(_text(one) for one in program.command)
    folders = {kind: name for name, kind in content.items()} or {"mod": "mods"}
    kinds = ", ".join(_text(one) for one in folders)
    made = [
        f"# {title}, as found in a server's folder. Where it says `look`, look. Every field: rhizon help game-fields\n",
        f'format = "rhizon-game/1"\nid = {_text(ident)}\ntitle = {_text(title)}\nsummary = ""\n',
        'versions = ["1.0"] # look: the versions that you run, oldest first\n',
        f"server_files = [{', '.join(_text(one) for one in program.files)}]\ncommand = [{words}] # {program.why}\n",
        "folders = { " + ", ".join(f"{kind} = {_text(name)}" for kind, name in folders.items()) + " }\n",
        f"first_start = {{ creates = [{', '.join(_text(one) for one in dict.fromkeys(one.file for one in keys))}] }}\n",
        f"\n[runtime]\nfamily = {_text(program.family)}\n",
    ]
    if program.family in DESCRIBED:
        name, programs, version, flags = DESCRIBED[program.family]
        made.append(
            f"\n[runtime.described]\ntitle = {_text(name)}\nprograms = {programs}\n"
            f"version = '{version}'\nflags = {flags}\n"
        )
    made.append(f"\n[loaders.own]\ntitle = {_text(title)}\nkinds = [{kinds}]\ncommand = [{words}]\n")
    made += [_setting(one) for one in keys if one.kind != "port"]
    if world is None:
        made.append('\n[settings.world_name]\ntype = "text"\nmeaning = "world in use"\ndefault = "world"\n')
    for number, one in enumerate(one for one in keys if one.kind == "port"):
        role = re.sub(r"_?port_?", "", one.name).strip("_") or ("game" if number == 0 else f"port_{number}")
        made.append(
            f'\n[[ports]]\nrole = {_text(role)}\nprotocols = ["tcp", "udp"] # look: which of the two\n'
            f"default = {one.value.strip()}\nstore = [{_store(one)}]\n"
        )
    if not any(one.kind == "port" for one in keys):
        made.append('\n[[ports]] # look: its ports\nrole = "game"\nprotocols = ["tcp"]\ndefault = 24500\nstore = []\n')
    made.append(f"\n[memory]\nbase_mib = {program.heap_mib or 256}\n")
    made.append(_world_text(world))
    made.append(
        '\n[console]\nstop_signal = "terminate" # look: stop = "..." where a command stops it\nstop_seconds = 60\n'
    )
    made.append(_log_text(said, log_path))
    return made


def _setting(one: FoundKey) -> str:
    """A setting as it was found."""
    value = one.value.strip()
    default = _text("" if one.secret else one.value)
    lines = [f"\n[settings.{one.name}]", f'type = "{one.kind}"', f"meaning = {_text(one.meaning)}"]
    if one.kind == "integer":
        default = value
    if one.kind == "flag":
        yes, no = next(pair for pair in FLAGS if value.lower() in pair)
        default = "true" if value.lower() == yes else "false"
        if DIALECTS[one.written].spell(True) != yes:
            lines.append(f"words = {{ yes = {_text(yes)}, no = {_text(no)} }}")
    lines.append(f"default = {default}")
    lines += ["secret = true"] if one.secret and one.kind == "text" else []
    return "\n".join([*lines, f"store = {_store(one)}", ""])


def _store(one: FoundKey) -> str:
    encoding = f", encoding = {_text(one.encoding)}" if one.encoding != "utf-8" else ""
    return f"{{ file = {_text(one.file)}, dialect = {_text(one.dialect)}, key = {_text(one.key)}{encoding} }}"


def _world_text(world: _World | None) -> str:
    if world is None:
        return '\n[world]\nfolder = "worlds" # look: where worlds are\n'
    lines = [f"\n[world] # {world.why}", f"folder = {_text(world.folder)}"]
    if not world.folder:
        lines.append(f"names = {_text(world.name + '*')} # look: which folders beside it are worlds")
    if world.entry != "{name}":
        lines += [f"entry = {_text(world.entry)}", "single_file = true"]
    if world.setting != "world_name":
        lines.append(f"name_setting = {_text(world.setting)}")
    return "\n".join([*lines, ""])


def _log_text(said: LogFound, log_path: str) -> str:
    lines = ["\n[log]"]
    if said.ready:
        lines += [f"# {said.ready_line.strip()}", f"ready = '{said.ready}'"]
    else:
        lines.append("ready = 'ready' # look: the line that says players can join")
    if said.closed:
        lines += [f"# {said.closed_line.strip()}", f"closed = '{said.closed}'"]
    if said.content_begin:
        lines.append(f"content_begin = '{said.content_begin}'")
    if said.content_done:
        lines.append(f"content_done = '{said.content_done}'")
    if log_path:
        lines.append(f"files = [{{ path = {_text(log_path)} }}]")
    return "\n".join([*lines, ""])


def _text(value: str) -> str:
    """A text as TOML has it."""
    return json.dumps(value, ensure_ascii=False)

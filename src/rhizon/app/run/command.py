"""The command and the variables that a server is started with, by its lock and its record."""

import json
import os
from typing import Any, NamedTuple
from urllib.parse import quote

from rhizon.adapters.instances import InstanceFolder
from rhizon.app.instance.native_files import native_values, started_in, started_with
from rhizon.core.content_paths import content_paths
from rhizon.core.launch import Launch, start_command, start_environment
from rhizon.core.model.game import GameDefinition, ReadyRule
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import PortDefinition
from rhizon.core.names import RelPath
from rhizon.core.settings.apply import in_file
from rhizon.core.settings.dialects import DIALECTS

__all__ = ["StartCommand", "Ways", "command_of", "setting_now", "ways_of"]

Ways = tuple[dict[str, Any] | None, dict[str, Any] | None, dict[str, Any] | None]  # watch, launcher, console


class StartCommand(NamedTuple):
    """What is executed in the server's folder. ``watch``, ``launcher`` and ``console`` are as in
    :class:`rhizon.keeper.job.Job`."""

    words: tuple[str, ...]
    environment: dict[str, str]
    watch: dict[str, Any] | None = None
    launcher: dict[str, Any] | None = None
    console: dict[str, Any] | None = None


def command_of(
    home: InstanceFolder, game: GameDefinition, lock: Lock, instance: Instance, measured: str | None = None
) -> StartCommand:
    """``measured`` is the folder in the server's own for the runtime's logs of its memory; None for no such logs."""
    launch = Launch(
        lock.target.loader,
        instance.runtime,
        instance.heap_mib,
        path_separator=os.pathsep,
        content=content_paths(game, lock),
        arguments=started_with(home, game),
        measured=measured,
    )
    environment = start_environment(game, instance.runtime, instance.heap_mib, lock.target.loader)
    return StartCommand(
        start_command(game, launch), {**environment, **started_in(home, game)}, *ways_of(home, game, instance)
    )


def ways_of(home: InstanceFolder, game: GameDefinition, instance: Instance, *, first: bool = False) -> Ways:
    """How it is seen to be ready, what its launcher leaves, and how its console is reached. On its ``first`` start a
    server has its own ports, where its settings are not written before."""
    address = _address(home, game)
    ports = {port.role: _first_number(game, port, instance) if first else port.default for port in game.ports}
    ports = ports if first else {**ports, **instance.ports}
    watch = None
    if game.is_probed:
        rule = game.ready or ReadyRule(file=RelPath("none"))
        watch = {
            "launcher": game.launcher is not None,
            "file": (rule.file or "") if game.ready is not None else "",
            "address": address,
            "port": ports.get(rule.port, 0) if rule.port is not None else 0,
            "protocol": rule.protocol,
            "send": rule.sent().hex(),
            "answer": rule.answer,
        }
    launcher = {"pid_file": game.launcher.pid_file or ""} if game.launcher is not None else None
    return watch, launcher, _console(home, game, address, ports)


def _first_number(game: GameDefinition, port: PortDefinition, instance: Instance) -> int:
    """The number that a port has at the first start."""
    early = any(game.first_start.before(place.file, place.written) for place in port.store)
    return instance.ports.get(port.role, port.default) if early else port.default


def _console(home: InstanceFolder, game: GameDefinition, address: str, ports: dict[str, int]) -> dict[str, Any] | None:
    rule = game.console
    if rule.none:
        return {"by": "none"}
    if rule.fifo is not None:
        return {"by": "fifo", "fifo": rule.fifo}
    if rule.tcp is not None:
        login = rule.tcp.login.replace("{password}", _secret(home, game, rule.tcp.password_setting))
        facts = {name: getattr(rule.tcp, name) for name in ("asks", "refused", "prompt", "ends", "line_end")}
        return {"by": "tcp", "address": address, "port": ports[rule.tcp.port], "login": login, **facts}
    if rule.http is not None:
        word = _secret(home, game, rule.http.password_setting)
        escaped = json.dumps(word)[1:-1] if "json" in rule.http.type else word
        return {
            "by": "http",
            "address": address,
            "port": ports[rule.http.port],
            "method": rule.http.method,
            "path": rule.http.path.replace("{password}", quote(word, safe="")),
            "body": rule.http.body.replace("{password}", escaped),
            "type": rule.http.type,
            "headers": {name: text.replace("{password}", word) for name, text in rule.http.headers.items()},
        }
    return None


def _secret(home: InstanceFolder, game: GameDefinition, name: str | None) -> str:
    """The value of a secret setting as the server's own files say it now."""
    if name is None:
        return ""
    value = setting_now(home, game, name)
    return str(game.settings[name].default if value is None else value)


def setting_now(home: InstanceFolder, game: GameDefinition, name: str) -> str | int | bool | None:
    """What the server's own files say of a setting."""
    setting = game.settings.get(name)
    if setting is None or setting.store is None:
        return None
    return in_file(setting, DIALECTS[setting.store.written], native_values(home, setting.store))[0]


def _address(home: InstanceFolder, game: GameDefinition) -> str:
    """Where the server can be reached from here."""
    address = str(setting_now(home, game, "address") or "")
    return "127.0.0.1" if address in ("", "0.0.0.0", "*") else "::1" if address == "::" else address

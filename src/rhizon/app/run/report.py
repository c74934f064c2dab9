"""A report for somebody who helps: what is known of a server, in one archive, without secrets and addresses."""

import contextlib
import getpass
import gzip
import html
import io
import json
import platform
import socket
import time
import zipfile
import zlib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec

from rhizon import __version__
from rhizon.adapters.files import translated, write_atomic
from rhizon.adapters.host import memory_mib, processors
from rhizon.adapters.instances import InstanceFolder
from rhizon.app.foresee.foresee import foresee
from rhizon.app.foresee.records import record_findings
from rhizon.app.host import Host
from rhizon.app.instance.native_files import native_values
from rhizon.app.instance.server_state import state_of
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.run.boots import boots
from rhizon.app.run.crashes import crash_reports
from rhizon.core.errors import RhizonError
from rhizon.core.model.base import enc_hook
from rhizon.core.redact import Redactor
from rhizon.keeper.places import OUTPUT, RUNS

__all__ = ["ReportResult", "write_report"]

MOST_LOG = 2 << 20
EARLIER = 2
_EPOCH = (1980, 1, 1, 0, 0, 0)
CSS = """body{font:15px/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem;color:#1c2b33}
pre{background:#f3f5f6;padding:.8rem;overflow:auto;white-space:pre-wrap;overflow-wrap:anywhere;font-size:13px}
h1{font-size:1.4rem}h2{font-size:1.1rem;margin-top:2rem}table{border-collapse:collapse}
td,th{text-align:left;padding:.2rem .8rem .2rem 0;vertical-align:top}.error{color:#b3261e}.warning{color:#8a5a00}
@media(prefers-color-scheme:dark){body{background:#10181d;color:#dbe4e8}pre{background:#1a252c}
.error{color:#ff8a80}.warning{color:#ffcc66}}"""


class ReportResult(msgspec.Struct, frozen=True, kw_only=True):
    """Where the archive is, what is in it, and how often what was taken out."""

    folder: str
    name: str
    file: str
    size: int
    parts: tuple[str, ...]
    removed: dict[str, int]


def write_report(host: Host, folder: Path, file: Path) -> ReportResult:
    """Writes the archive. Every text in it goes through one :class:`~rhizon.core.redact.Redactor`. Raises
    :class:`~rhizon.core.errors.StateError`."""
    state = require_instance_state(host, host.home(folder).required())
    redactor = Redactor(_secrets(state), _names(state))
    parts = {name: redactor.text(text) for name, text in _parts(host, state).items()}
    removed = dict(sorted(redactor.counts.items()))
    lines = [f"{count} times: {what}" for what, count in removed.items()]
    parts["removed.txt"] = "Removed from all texts in this archive:\n" + "\n".join(lines or ["nothing"]) + "\n"
    parts["report.html"] = _page(state.instance.name, parts)
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in sorted(parts):
            archive.writestr(zipfile.ZipInfo(name, _EPOCH), parts[name], zipfile.ZIP_DEFLATED)
    with translated("write the report", file):
        write_atomic(file, packed.getvalue(), 0o600)
    return ReportResult(
        folder=str(state.home.folder),
        name=state.instance.name,
        file=str(file),
        size=len(packed.getvalue()),
        parts=tuple(sorted(parts)),
        removed=removed,
    )


def _secrets(state: InstanceState) -> list[str]:
    """The values of secret settings, as the server's own files have them, and what opens its console."""
    found = []
    for definition in state.game.settings.values():
        for place in definition.places if definition.secret else ():
            try:
                value = native_values(state.home, place).get(place.key, "")
            except RhizonError:
                continue
            found += [value, value.strip('"')]
    mark = state.home.running()
    return [*found, mark.token.reveal()] if mark is not None else found


def _names(state: InstanceState) -> dict[str, str]:
    """Names of this machine and its user; a home folder names its user."""
    names = {socket.gethostname(): "[host]", str(Path.home()): "[home]"}
    user = getpass.getuser()
    if user != "root":
        names[user] = "[user]"
    return {**names, str(state.home.folder): "[server]"}


def _parts(host: Host, state: InstanceState) -> dict[str, str]:
    """The texts of a report, by their names in it."""
    home, instance, lock = state.home, state.instance, state.lock
    target = lock.target
    findings = [*record_findings(host, state), *foresee(host, state, state_of(host, home).pid, ask_runtime=False)]
    facts = {
        "written": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()),
        "rhizon": __version__,
        "server": instance.name,
        "game": f"{state.game.title} {target.game_version}",
        "loader": f"{target.loader} {target.loader_build.text if target.loader_build is not None else ''}".strip(),
        "runtime": f"{instance.runtime.family} {instance.runtime.version}" if instance.runtime is not None else "none",
        "heap_mib": instance.heap_mib,
        "state": state_of(host, home).state,
        "system": f"{platform.system()} {platform.release()} {platform.machine()}",
        "python": platform.python_version(),
        "memory_mib": memory_mib(),
        "processors": processors(),
    }
    parts = {
        "facts.json": _json(facts),
        "findings.json": _json([msgspec.to_builtins(one) for one in findings]),
        "lock.json": _json(msgspec.to_builtins(lock, enc_hook=enc_hook)),
        "settings.json": _json(_settings(state)),
        "crashes.json": _json([msgspec.to_builtins(one) for one in crash_reports(home)[-5:]]),
    }
    with contextlib.suppress(RhizonError):
        parts["boots.json"] = _json(msgspec.to_builtins(boots(host, home.folder)))
    for name, data in _logs(home).items():
        parts[name] = data.decode(state.game.log.encoding, "replace").replace("\0", "")
    return parts


def _settings(state: InstanceState) -> Mapping[str, Any]:
    """What the server's own files say, but for secrets."""
    found: dict[str, Any] = {}
    for name, definition in state.game.settings.items():
        if definition.store is None:
            continue
        if definition.secret:
            found[name] = "[secret]"
            continue
        try:
            values = native_values(state.home, definition.store)
        except RhizonError as broken:
            found[name] = f"({broken.message})"
            continue
        found[name] = values.get(definition.store.key, state.instance.settings.get(name))
    return found


def _logs(home: InstanceFolder) -> dict[str, bytes]:
    """The end of the last log and of some before."""
    found = {}
    last = home.own / OUTPUT
    if last.is_file():
        found["logs/last-run.log"] = last.read_bytes()[-MOST_LOG:]
    for one in sorted((home.own / RUNS).glob("*.log.gz"), reverse=True)[:EARLIER]:
        try:
            with gzip.open(one, "rb") as packed:
                found[f"logs/{one.name.removesuffix('.gz')}"] = packed.read()[-MOST_LOG:]
        except (OSError, EOFError, zlib.error):
            continue
    return found


def _json(document: object) -> str:
    return json.dumps(document, indent=2, ensure_ascii=False, default=str) + "\n"


def _page(name: str, parts: Mapping[str, str]) -> str:
    """A page to read it in: nothing is loaded from anywhere."""
    facts = json.loads(parts["facts.json"])
    rows = "".join(f"<tr><th>{html.escape(str(k))}</th><td>{html.escape(str(v))}</td></tr>" for k, v in facts.items())
    findings = "".join(
        f"<li class={one['severity']}><b>{html.escape(one['subject'])}</b>: {html.escape(one['what'])}</li>"
        for one in json.loads(parts["findings.json"])
    )
    texts = "".join(
        f"<h2>{html.escape(part)}</h2><pre>{html.escape(text[-60_000:])}</pre>"
        for part, text in parts.items()
        if part.startswith("logs/") or part in ("removed.txt", "settings.json", "crashes.json")
    )
    policy = "default-src 'none'; style-src 'unsafe-inline'"
    return (
        f'<!doctype html><html lang="en"><meta charset="utf-8"><meta http-equiv="Content-Security-Policy" '
        f'content="{policy}"><meta name="viewport" content="width=device-width"><title>{html.escape(name)}</title>'
        f"<style>{CSS}</style><h1>Report on the server {html.escape(name)}</h1><table>{rows}</table>"
        f"<h2>Findings</h2><ul>{findings or '<li>none</li>'}</ul>{texts}</html>\n"
    )

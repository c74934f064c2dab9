"""Units of systemd for a server: a service that is its keeper, and timers for what is done regularly
(systemd.service(5), systemd.exec(5), systemd.timer(5)). As text; nothing is written here.
"""

import re
from collections.abc import Mapping, Sequence

from rhizon.core.model.instance import ScheduledTask

__all__ = ["cron_time", "launchd_file", "on_calendar", "openrc_file", "service_unit", "timer_units", "unit_name"]

# What a game server needs of the system is its folder, the network, and nothing else.
_HARDENED = """NoNewPrivileges=yes
CapabilityBoundingSet=
AmbientCapabilities=
ProtectSystem=strict
ProtectHome=read-only
PrivateTmp=yes
PrivateDevices=yes
ProtectClock=yes
ProtectHostname=yes
ProtectKernelLogs=yes
ProtectKernelModules=yes
ProtectKernelTunables=yes
ProtectControlGroups=yes
RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK
RestrictNamespaces=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
LockPersonality=yes
RemoveIPC=yes
KeyringMode=private
SystemCallArchitectures=native
SystemCallFilter=@system-service
SystemCallFilter=~@privileged @resources
SystemCallErrorNumber=EPERM
UMask=0027"""
# A user's manager may not do the rest.
_HARDENED_USER = """NoNewPrivileges=yes
RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK
RestrictRealtime=yes
RestrictSUIDSGID=yes
LockPersonality=yes
SystemCallArchitectures=native
UMask=0027"""
KEEPER_MIB = 256  # for the keeper, and a backup or a crash report that it starts
_WORD = re.compile(r"^[A-Za-z0-9_@%+=:,./$-]+$")
_DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")


def unit_name(name: str) -> str:
    """The service of a server of that name."""
    return f"rhizon-{name}.service"


def _quoted(word: str) -> str:
    """A word of a list, as systemd reads it."""
    word = word.replace("%", "%%")
    if _WORD.match(word):
        return word
    return '"' + word.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _command(words: Sequence[str]) -> str:
    """A command line, in which systemd expands ``$`` too."""
    return " ".join(_quoted(word.replace("$", "$$")) for word in words)


def service_unit(
    *,
    title: str,
    folder: str,
    command: Sequence[str],
    environment: Mapping[str, str],
    writes: Sequence[str],
    user: str | None,
    start_seconds: int,
    stop_seconds: int,
    memory_mib: int,
) -> str:
    """The service: ``command`` becomes the keeper; ``writes`` are the folders that it may write; ``user`` runs it, None
    for a user's own manager. Its memory is bounded by half as much again as the server was granted, so that a leak
    does not take the machine down."""
    lines = [
        "# Written by rhizon service install; rhizon service remove takes it away.",
        "[Unit]",
        f"Description={title.replace('%', '%%')}",
        "Wants=network-online.target",
        "After=network-online.target",
        "",
        "[Service]",
        "Type=notify",
        "NotifyAccess=main",
        f"ExecStart={_command(command)}",
        f"WorkingDirectory={folder.replace('%', '%%')}",
        *(f"Environment={_quoted(f'{name}={value}')}" for name, value in sorted(environment.items())),
        *([f"User={user}"] if user is not None else []),
        "# The keeper starts the server again after a crash. Where the keeper itself is killed, the next one takes the",
        "# server over, which is why only the keeper is ended by a signal.",
        "Restart=on-abnormal",
        "RestartSec=2s",
        "KillMode=process",
        "WatchdogSec=60s",
        f"TimeoutStartSec={start_seconds}s",
        f"TimeoutStopSec={stop_seconds}s",
        f"MemoryMax={memory_mib * 3 // 2 + KEEPER_MIB}M",
        "TasksMax=4096",
        *(_HARDENED if user is not None else _HARDENED_USER).splitlines(),
        *([f"ReadWritePaths={' '.join(map(_quoted, writes))}"] if user is not None else []),
        "",
        "[Install]",
        f"WantedBy={'multi-user.target' if user is not None else 'default.target'}",
        "",
    ]
    return "\n".join(lines)


def on_calendar(when: str) -> str:
    """A time as systemd's OnCalendar reads it: "hourly", "daily 04:30", "weekly sun 04:30". Raises ValueError."""
    match = re.fullmatch(
        r"(?:hourly|daily (?P<at>[0-2]\d:[0-5]\d)|weekly (?P<day>[a-z]{3}) (?P<weekly>[0-2]\d:[0-5]\d))", when
    )
    at = match and (match["at"] or match["weekly"])
    if match is None or (match["day"] and match["day"] not in _DAYS) or (at and int(at[:2]) > 23):
        raise ValueError(f"{when!r} is not a time such as 'hourly', 'daily 04:30' or 'weekly sun 04:30'")
    if when == "hourly":
        return "*-*-* *:00:00"
    return f"{match['day'].capitalize()} *-*-* {at}:00" if match["day"] else f"*-*-* {at}:00"


def cron_time(when: str) -> str:
    """The same as the five fields of crontab(5). Raises ValueError."""
    on_calendar(when)
    if when == "hourly":
        return "0 * * * *"
    *_, at = when.split(" ")
    day = str((_DAYS.index(when.split(" ")[1]) + 1) % 7) if when.startswith("weekly") else "*"
    return f"{int(at[3:])} {int(at[:2])} * * {day}"


def timer_units(
    name: str,
    task: ScheduledTask,
    *,
    command: Sequence[str],
    folder: str,
    environment: Mapping[str, str],
    user: str | None,
) -> dict[str, str]:
    """A timer and the service that it starts, by their file names. One that was missed while the machine was off is
    made up for."""
    stem = f"rhizon-{name}-{task.what}"
    service = [
        "# Written by rhizon schedule.",
        "[Unit]",
        f"Description={task.what} of the server {name}, {task.when}",
        "",
        "[Service]",
        "Type=oneshot",
        f"ExecStart={_command(command)}",
        f"WorkingDirectory={folder.replace('%', '%%')}",
        *(f"Environment={_quoted(f'{key}={value}')}" for key, value in sorted(environment.items())),
        *([f"User={user}"] if user is not None else []),
        "NoNewPrivileges=yes",
        "",
    ]
    timer = [
        "# Written by rhizon schedule.",
        "[Unit]",
        f"Description={task.what} of the server {name}, {task.when}",
        "",
        "[Timer]",
        f"OnCalendar={on_calendar(task.when)}",
        "Persistent=true",
        "RandomizedDelaySec=30s",
        "",
        "[Install]",
        "WantedBy=timers.target",
        "",
    ]
    return {f"{stem}.service": "\n".join(service), f"{stem}.timer": "\n".join(timer)}


def openrc_file(*, title: str, folder: str, command: Sequence[str], user: str) -> str:
    """An init script for OpenRC, from its documentation; not tested on one."""
    import shlex

    first, *rest = command
    return "\n".join(
        [
            "#!/sbin/openrc-run",
            "# Untested: written after openrc-run(8).",
            f"name={shlex.quote(title)}",
            f"command={shlex.quote(first)}",
            f"command_args={shlex.quote(shlex.join(rest))}",
            f"command_user={shlex.quote(user)}",
            f"directory={shlex.quote(folder)}",
            "command_background=true",
            'pidfile="/run/${RC_SVCNAME}.pid"',
            'retry="TERM/120/KILL/5"',
            "depend() { need net; }",
            "",
        ]
    )


def launchd_file(*, label: str, folder: str, command: Sequence[str], environment: Mapping[str, str]) -> str:
    """A property list for launchd, from its documentation; not tested on one."""
    from xml.sax.saxutils import escape

    words = "".join(f"    <string>{escape(one)}</string>\n" for one in command)
    variables = "".join(
        f"    <key>{escape(key)}</key><string>{escape(value)}</string>\n" for key, value in sorted(environment.items())
    )
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        "<!-- Untested: written after launchd.plist(5). -->\n"
        '<plist version="1.0">\n<dict>\n'
        f"  <key>Label</key><string>{escape(label)}</string>\n"
        f"  <key>ProgramArguments</key>\n  <array>\n{words}  </array>\n"
        f"  <key>WorkingDirectory</key><string>{escape(folder)}</string>\n"
        f"  <key>EnvironmentVariables</key>\n  <dict>\n{variables}  </dict>\n"
        "  <key>RunAtLoad</key><true/>\n  <key>ExitTimeOut</key><integer>120</integer>\n"
        "</dict>\n</plist>\n"
    )

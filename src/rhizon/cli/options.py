"""Values of options that several commands take."""

import re
import sys
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from rhizon.cli.completion import complete_settings
from rhizon.core.errors import InputError

__all__ = [
    "AGE",
    "LISTEN",
    "MIB",
    "MIB_OR_NONE",
    "ask_secret",
    "backups_option",
    "catalog_options",
    "generated_names",
    "key_options",
    "opening",
    "output_option",
    "pairs",
    "port_numbers",
    "secret_option",
    "secret_values",
    "told_options",
]

if TYPE_CHECKING:
    from rhizon.app.keep.backup_keys import Opening
    from rhizon.core.secret import Secret

F = TypeVar("F", bound=Callable[..., Any])
GENERATE = "generate"


class _Mib(click.ParamType):  # type: ignore[type-arg]
    """An amount of memory in MiB: a whole number, or one with M or G (of 1024)."""

    name = "memory"
    most = 1 << 22

    def __init__(self, least: int) -> None:
        self.least = least

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int:
        """The value that was typed; fails with what would be right."""
        written = re.fullmatch(r"(\d{1,12})(?:\.(\d{1,6}))?\s*([MG]?)(?:i?B)?", str(value).strip(), re.IGNORECASE)
        if written is None:
            self.fail(f"{value!r} is not an amount of memory; write 1536, 1536M or 1.5G.", param, ctx)
        whole, part, unit = written.groups()
        amount = float(f"{whole}.{part or 0}") * (1024 if unit.upper() == "G" else 1)
        if not self.least <= amount <= self.most or amount != int(amount):
            self.fail(f"{value} is not a whole number of MiB from {self.least} to {self.most}.", param, ctx)
        return int(amount)


class _Age(click.ParamType):  # type: ignore[type-arg]
    """An age such as 12h, 7d or 2w, in seconds."""

    name = "age"
    units: Mapping[str, float] = {"m": 60, "h": 3600, "d": 86_400, "w": 604_800}

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        """The value that was typed; fails with what would be right."""
        if isinstance(value, float):
            return value
        written = re.fullmatch(r"(\d{1,6})(?:\.(\d{1,3}))?([mhdw])", str(value).strip())
        if written is None:
            self.fail(f"{value!r} is not an age; write 30m, 12h, 7d or 2w.", param, ctx)
        whole, part, unit = written.groups()
        return float(f"{whole}.{part or 0}") * self.units[unit]


class _Listen(click.ParamType):  # type: ignore[type-arg]
    """Where to listen: ADDRESS:PORT, [IPv6]:PORT or :PORT (every address)."""

    name = "listen"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> tuple[str, int]:
        """The value that was typed; fails with what would be right."""
        if isinstance(value, tuple):
            return value
        address, colon, port = str(value).rpartition(":")
        if not colon or not port.isdecimal() or int(port) > 65535 or (":" in address and address[:1] != "["):
            self.fail(f"{value!r} is not ADDRESS:PORT, as in 127.0.0.1:8200 or [::1]:8200.", param, ctx)
        return address.strip("[]") or "0.0.0.0", int(port)


AGE, LISTEN = _Age(), _Listen()
MIB, MIB_OR_NONE = _Mib(16), _Mib(0)


def catalog_options(function: F) -> F:
    """Where content comes from: ``catalogs`` and ``offline``."""
    offline = click.option("--offline", is_flag=True, help="Use only what is on this machine already.")
    catalogs = click.option(
        "--catalog",
        "catalogs",
        multiple=True,
        metavar="ADDRESS",
        help="Catalog to take content from: http(s) address or folder. May be repeated.",
    )
    return catalogs(offline(function))


def told_options(function: F) -> F:
    """What players are told of a server."""
    for option in (
        click.option("--description", metavar="TEXT", help="What the server is about, in a sentence; remembered."),
        click.option("--contact", metavar="TEXT", help="Whom players ask; remembered."),
        click.option("--address", metavar="HOST", help="Name or address that players use; remembered."),
    ):
        function = option(function)
    return function


def key_options(function: F) -> F:
    """What opens an encrypted backup: ``key_file`` and ``passphrase``."""
    key = click.option(
        "--key",
        "key_file",
        type=click.Path(path_type=Path),
        metavar="FILE",
        help="age identity file that decrypts the backup.",
    )
    words = click.option(
        "--passphrase", metavar="FILE|keyring|prompt", help="Source of the passphrase of encrypted backups."
    )
    return key(words(function))


def output_option(text: str) -> Callable[[F], F]:
    """The one option for a file that a command writes: ``output``."""
    return click.option("-o", "--output", type=click.Path(path_type=Path), metavar="FILE", help=text)


def backups_option(function: F) -> F:
    """The one option for where backups are: ``backups``."""
    return click.option(
        "--backups",
        type=click.Path(path_type=Path),
        metavar="FOLDER",
        help="Folder of the backups (another disk, a share); by default that of this machine.",
    )(function)


def opening(key_file: Path | None, passphrase: str | None) -> "Opening":
    """The same as a use case takes it."""
    from rhizon.app.keep.backup_keys import Opening

    return Opening(key_file, passphrase, ask_secret if sys.stdin.isatty() else None)


def pairs(values: tuple[str, ...], where: str) -> dict[str, str]:
    """``NAME=VALUE`` each, as a table. Raises UsageError for a text without ``=``."""
    table = {}
    for value in values:
        name, equals, rest = value.partition("=")
        if not equals or not name:
            raise click.UsageError(f"{where} takes NAME=VALUE, not {value!r}.")
        table[name] = rest
    return table


def port_numbers(values: tuple[str, ...]) -> dict[str, int]:
    """``ROLE=N`` each, as a table."""
    return {role: _port(role, number) for role, number in pairs(values, "--port").items()}


def _port(role: str, text: str) -> int:
    if not text.isdecimal() or not 1 <= int(text) <= 65535:
        raise click.UsageError(f"--port {role} takes a number from 1 to 65535, not {text!r}.")
    return int(text)


def secret_option(function: F) -> F:
    """Passwords and the like: ``secrets``."""
    return click.option(
        "--secret",
        "secrets",
        multiple=True,
        metavar="NAME[=FILE|prompt|generate]",
        shell_complete=complete_settings,
        help="Secret setting: read from FILE, typed at a prompt (the default) or generated.",
    )(function)


def secret_values(values: tuple[str, ...]) -> "dict[str, Secret]":
    """Each secret by its setting: the text of its file (without a final line end), typed by the person at the terminal,
    or generated. Raises InputError where no one can be asked or a file cannot be read. Raises UsageError for one that
    is given twice."""
    found: dict[str, Secret] = {}
    for value in values:
        name, _, source = value.partition("=")
        if name in found:
            raise click.UsageError(f"--secret {name} is given twice.")
        if source == GENERATE:
            from rhizon.app.provision.generate import new_password

            found[name] = new_password()
        else:
            found[name] = ask_secret(name) if source in ("", "prompt") else _secret(Path(source))
    return found


def generated_names(values: tuple[str, ...]) -> tuple[str, ...]:
    """The settings whose secrets are generated."""
    return tuple(value.partition("=")[0] for value in values if value.endswith(f"={GENERATE}"))


def ask_secret(name: str) -> "Secret":
    """A secret that the person types twice. Raises InputError where there is no terminal."""
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        raise InputError(
            "nobody-to-ask",
            f"{name} must be typed, and there is no terminal",
            hint=f"Name a file that only you can read, as in --secret {name}=secret.txt, or --secret {name}=generate.",
        )
    from rhizon.core.secret import Secret

    answer: str = click.prompt(name, hide_input=True, confirmation_prompt=True, err=True)
    return Secret(answer)


def _secret(file: Path) -> "Secret":
    from rhizon.app.keep.backup_keys import read_secret

    return read_secret(file)


on_option = click.option(
    "--on", metavar="REMOTE|FILE", help="On a rented server that it was sent to (rhizon help rented)."
)

"""Values of options that several commands take."""

import re
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from rhizon.core.errors import InputError

__all__ = [
    "MIB",
    "MIB_OR_NONE",
    "ask_secret",
    "catalog_options",
    "key_options",
    "opening",
    "pairs",
    "port_numbers",
    "secret_options",
    "secret_values",
]

if TYPE_CHECKING:
    from rhizon.app.keep.backup_keys import Opening
    from rhizon.core.secret import Secret

F = TypeVar("F", bound=Callable[..., Any])


class _Mib(click.ParamType):  # type: ignore[type-arg]
    """An amount of memory in MiB: a whole number, or one with M or G (of 1024)."""

    name = "memory"
    most = 1 << 22

    def __init__(self, least: int) -> None:
        self.least = least

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int:
        written = re.fullmatch(r"(\d{1,12})(?:\.(\d{1,6}))?\s*([MG]?)(?:i?B)?", str(value).strip(), re.IGNORECASE)
        if written is None:
            self.fail(f"{value!r} is no amount of memory; write 1536, 1536M or 1.5G.", param, ctx)
        whole, part, unit = written.groups()
        amount = float(f"{whole}.{part or 0}") * (1024 if unit.upper() == "G" else 1)
        if not self.least <= amount <= self.most or amount != int(amount):
            self.fail(f"{value} is not a whole number of MiB from {self.least} to {self.most}.", param, ctx)
        return int(amount)


MIB, MIB_OR_NONE = _Mib(16), _Mib(0)


def catalog_options(function: F) -> F:
    """Where content comes from: ``catalogs`` and ``offline``."""
    offline = click.option("--offline", is_flag=True, help="Use only what is on this machine already.")
    catalogs = click.option(
        "--catalog", "catalogs", multiple=True, metavar="ADDRESS", help="A catalog: http(s) address or folder."
    )
    return catalogs(offline(function))


def key_options(function: F) -> F:
    """What opens an encrypted backup: ``key_file`` and ``passphrase``."""
    key = click.option(
        "--key", "key_file", type=click.Path(path_type=Path), metavar="FILE", help="age identity that opens the backup."
    )
    words = click.option(
        "--passphrase", metavar="FILE|keyring|prompt", help="Where the passphrase of encrypted backups comes from."
    )
    return key(words(function))


def opening(key_file: Path | None, passphrase: str | None) -> "Opening":
    """The same as a use case takes it."""
    from rhizon.app.keep.backup_keys import Opening

    return Opening(key_file, passphrase, ask_secret if sys.stdin.isatty() else None)


def pairs(values: tuple[str, ...], where: str) -> dict[str, str]:
    """``NAME=VALUE`` each, as a table."""
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


def secret_options(function: F) -> F:
    """Passwords and the like: ``secrets`` and ``generated``."""
    given = click.option(
        "--secret",
        "secrets",
        multiple=True,
        metavar="NAME[=FILE]",
        help="A secret setting: read from a file, or asked for.",
    )
    drawn = click.option("--generate", "generated", multiple=True, metavar="NAME", help="A new secret for a setting.")
    return given(drawn(function))


def secret_values(values: tuple[str, ...], generated: tuple[str, ...]) -> "dict[str, Secret]":
    """What each secret is: from its file (a line end at its end is none of it), typed by the person at the terminal, or
    drawn. Raises InputError where nobody can be asked."""
    twice = [name for name in generated if name in {one.partition("=")[0] for one in values}]
    if twice:
        raise click.UsageError(f"{twice[0]} is both given and to be generated.")
    found = {}
    for value in values:
        name, equals, file = value.partition("=")
        found[name] = _secret(Path(file)) if equals else ask_secret(name)
    if generated:
        from rhizon.app.provision.generate import new_password

        found |= {name: new_password() for name in generated}
    return found


def ask_secret(name: str) -> "Secret":
    """A secret that the person types twice. Raises InputError where there is no terminal."""
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        raise InputError(
            "nobody-to-ask",
            f"{name} was to be asked for, and there is no terminal",
            hint=f"Put it into a file that only you can read: --secret {name}=FILE; or --generate {name}.",
        )
    from rhizon.core.secret import Secret

    answer: str = click.prompt(name, hide_input=True, confirmation_prompt=True, err=True)
    return Secret(answer)


def _secret(file: Path) -> "Secret":
    from rhizon.app.keep.backup_keys import read_secret

    return read_secret(file)

"""Values of options that several commands take."""

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from rhizon.core.errors import InputError

__all__ = ["catalog_options", "pairs", "secret_values"]

F = TypeVar("F", bound=Callable[..., Any])


def catalog_options(function: F) -> F:
    """Where content comes from: ``catalogs`` and ``offline``."""
    offline = click.option("--offline", is_flag=True, help="Use only what is on this machine already.")
    catalogs = click.option(
        "--catalog", "catalogs", multiple=True, metavar="ADDRESS", help="A catalog: http(s) address or folder."
    )
    return catalogs(offline(function))


def pairs(values: tuple[str, ...], where: str) -> dict[str, str]:
    """``NAME=VALUE`` each, as a table."""
    table = {}
    for value in values:
        name, equals, rest = value.partition("=")
        if not equals or not name:
            raise click.UsageError(f"{where} takes NAME=VALUE, not {value!r}.")
        table[name] = rest
    return table


def secret_values(values: tuple[str, ...]) -> dict[str, str]:
    """``NAME=FILE`` each, with what stands in the file (a line end at its end is none of it)."""
    return {name: _secret(Path(file)) for name, file in pairs(values, "--secret").items()}


def _secret(file: Path) -> str:
    try:
        text = file.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as broken:
        raise InputError(
            "unreadable", f"the secret in {file} cannot be read: {broken}", hint="Check the path and its mode."
        ) from None
    return text.rstrip("\r\n")

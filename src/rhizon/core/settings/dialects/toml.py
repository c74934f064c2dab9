"""TOML. Keys are the names on the way, joined by ``/``."""

from collections.abc import Iterator, Mapping
from typing import Any

from rhizon.core.settings.dialects.spans import Scalar, decoded

__all__ = ["Toml"]


class Toml:
    """tomlkit keeps comments, order and blanks."""

    def _parsed(self, text: str) -> Any:
        import tomlkit
        from tomlkit.exceptions import TOMLKitError

        try:
            return tomlkit.parse(text)
        except (TOMLKitError, ValueError, RecursionError) as broken:
            raise ValueError(f"not TOML: {broken}") from None

    def spell(self, value: Scalar) -> str:
        return {True: "true", False: "false"}[value] if isinstance(value, bool) else str(value)

    def read(self, data: bytes) -> dict[str, str]:
        import tomllib  # six times as fast where nothing is to be kept

        try:
            return dict(self._below(tomllib.loads(decoded(data)[0]), ""))
        except (ValueError, RecursionError) as broken:
            raise ValueError(f"not TOML: {broken}") from None

    def _below(self, table: Mapping[str, Any], prefix: str) -> Iterator[tuple[str, str]]:
        for name, value in table.items():
            if isinstance(value, Mapping):
                yield from self._below(value, f"{prefix}{name}/")
            elif not isinstance(value, list):
                yield prefix + name, self.spell(value)

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        text, encode = decoded(data)
        document = self._parsed(text)
        there = self.read(data)
        wanted = {
            key: value
            for key, value in changes.items()
            if (value is None and key in there) or (value is not None and there.get(key) != self.spell(value))
        }
        for key, value in wanted.items():
            self._put(document, key.split("/"), value)
        if not wanted:
            return data
        made = document.as_string()
        if "\r\n" in text and "\n" not in text.replace("\r\n", ""):
            made = made.replace("\r\n", "\n").replace("\n", "\r\n")
        return encode(made)

    def _put(self, table: Any, parts: list[str], value: Scalar | None) -> None:
        import tomlkit

        for part in parts[:-1]:
            if part not in table:
                table[part] = tomlkit.table()
            table = table[part]
            if not isinstance(table, Mapping):
                raise ValueError(f"{'/'.join(parts)}: what stands on the way is no table")
        if value is None:
            del table[parts[-1]]
            return
        old = table.get(parts[-1])
        if isinstance(value, str) and isinstance(old, bool) and value in ("true", "false"):
            value = value == "true"
        elif isinstance(value, str) and isinstance(old, int) and not isinstance(old, bool) and _whole(value):
            value = int(value)
        table[parts[-1]] = value


def _whole(text: str) -> bool:
    return text.removeprefix("-").isdecimal()

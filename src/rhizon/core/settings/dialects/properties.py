"""Java's ``.properties`` (java.util.Properties, load): comments, order and line ends are kept."""

import re
from collections.abc import Mapping
from typing import TYPE_CHECKING

from rhizon.core.settings.dialects.spans import Scalar

if TYPE_CHECKING:
    from javaproperties import PropertiesFile

__all__ = ["Properties"]

_NEW = " = "  # between a new key and its value
_ENTRY = re.compile(r"[ \t\f]*(?P<key>(?:\\.|[^\s:=\\])+)(?P<sign>[ \t\f]*[:=][ \t\f]*|[ \t\f]+)", re.DOTALL)


def _separators(text: str) -> dict[str, str]:
    """What is between each key and its value, as it is written; of a key that is there twice the last."""
    found = {}
    goes_on = False
    for line in text.splitlines():
        if not goes_on and not line.lstrip(" \t\f").startswith(("#", "!")):
            match = _ENTRY.match(line)
            if match is not None:
                found[re.sub(r"\\(.)", r"\1", match["key"])] = match["sign"]
        goes_on = (len(line) - len(line.rstrip("\\"))) % 2 == 1
    return found


class Properties:
    """UTF-8 text; bytes that are not survive as they are."""

    def spell(self, value: Scalar) -> str:
        """The value as text."""
        return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)

    def read(self, data: bytes) -> dict[str, str]:
        """All values by key. Raises ValueError."""
        return dict(self._file(data.decode("utf-8", "surrogateescape")))

    @staticmethod
    def _file(text: str) -> "PropertiesFile":
        import javaproperties  # slow to import, and most commands read no such file

        try:
            return javaproperties.PropertiesFile.loads(text)
        except javaproperties.InvalidUEscapeError as broken:
            raise ValueError(f"an invalid escape: {broken}") from None

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        """The file with the changes; comments and order stay. Raises ValueError."""
        text = data.decode("utf-8", "surrogateescape")
        windows = "\r\n" in text and text.count("\r\n") == text.count("\n") == text.count("\r")
        if windows:
            text = text.replace("\r\n", "\n")
        file = self._file(text)
        spelled = {key: None if value is None else self.spell(value) for key, value in changes.items()}
        wanted = {key: value for key, value in spelled.items() if file.get(key) != value}
        if not wanted:
            return data
        if wanted.keys() - set(file) and text and not text.endswith("\n"):
            file = self._file(text + "\n")
        signs = _separators(text)
        made = text
        for sign in dict.fromkeys(signs.get(key, _NEW) for key in wanted):  # each value behind the sign that it had
            for key, value in wanted.items():
                if signs.get(key, _NEW) != sign:
                    continue
                if value is None:
                    del file[key]
                else:
                    file[key] = value
            made = file.dumps(separator=sign, ensure_ascii=False)
            file = self._file(made)
        if windows:
            made = made.replace("\n", "\r\n")
        return made.encode("utf-8", "surrogateescape")

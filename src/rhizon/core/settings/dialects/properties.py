"""Java's ``.properties`` (java.util.Properties, load): comments, order and line ends are kept."""

from collections.abc import Mapping

from rhizon.core.settings.dialects.spans import Scalar

__all__ = ["Properties"]


class Properties:
    """UTF-8 text; bytes that are not survive as they are."""

    def spell(self, value: Scalar) -> str:
        return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)

    def read(self, data: bytes) -> dict[str, str]:
        import javaproperties  # slow to import, and most commands read no such file

        text = data.decode("utf-8", "surrogateescape")
        try:
            return dict(javaproperties.loads(text))
        except javaproperties.InvalidUEscapeError as broken:
            raise ValueError(f"an escape that is none: {broken}") from None

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        current = self.read(data)
        spelt = {key: None if value is None else self.spell(value) for key, value in changes.items()}
        wanted = {key: value for key, value in spelt.items() if current.get(key) != value}
        if not wanted:
            return data
        text = data.decode("utf-8", "surrogateescape")
        windows = "\r\n" in text
        if windows:
            text = text.replace("\r\n", "\n")
        if text and not text.endswith("\n"):
            text += "\n"
        import javaproperties

        file = javaproperties.PropertiesFile.loads(text)
        for key, value in wanted.items():
            if value is None:
                del file[key]
            else:
                file[key] = value
        made = file.dumps(separator=" = ", ensure_ascii=False)
        if windows:
            made = made.replace("\n", "\r\n")
        return made.encode("utf-8", "surrogateescape")

"""How a use case tells what it is doing. Every method does nothing here; a caller overrides what it shows."""

__all__ = ["Reporter"]


class Reporter:
    """Texts are plain: control codes were taken out."""

    def step(self, text: str) -> None:
        """Something begins that may take a while."""

    def done(self, text: str) -> None:
        """The step that was begun last has ended, with this result."""

    def warning(self, text: str) -> None:
        """Something that a person should know before what comes next."""

    def progress(self, text: str, part: float) -> None:
        """The current step is at ``part`` of 1."""

    def line(self, text: str) -> None:
        """A line that the server printed."""

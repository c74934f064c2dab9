"""How long a question may take, and who hears how far it is."""

__all__ = ["GaveUpError", "Watch"]


class GaveUpError(Exception):
    """The time for a question is over, or somebody has interrupted it."""


class Watch:
    """This one has no end and tells nobody; with a clock it is ``app``'s matter."""

    def over(self) -> bool:
        """Whether to stop. Asked often; it costs little."""
        return False

    def limit(self) -> str:
        """What has ended the search, in words that follow "not decided": "within 30 s"."""
        return "within the search limit"

    def allow_reasons(self) -> None:
        """The question is decided: there is to be a little time for why."""

    def phase(self, text: str) -> None:
        """What is being done now."""

    def step(self, conflicts: int, best: str = "") -> None:
        """Conflicts so far, and the best answer so far in words."""

    def check(self) -> None:
        """Raises GaveUpError when it is over."""
        if self.over():
            raise GaveUpError

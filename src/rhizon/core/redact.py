"""Texts for strangers: what nobody else should read is taken out, and what was taken out is counted."""

import re
from collections.abc import Callable, Iterable

__all__ = ["Redactor"]

_IPV4 = re.compile(r"(?<![\d.])(?:\d{1,3}\.){3}\d{1,3}(?![\d.])")
_IPV6 = re.compile(
    r"(?<![\w:])(?:[0-9a-fA-F]{1,4}:){2,7}[0-9a-fA-F]{0,4}(?:::?[0-9a-fA-F]{1,4})*(?![\w:])"
    r"|(?<![\w:])::[0-9a-fA-F:]+(?![\w:])"
)
_MAIL = re.compile(r"[\w.+-]+@[\w-]+\.[\w.-]+")
_URL_SECRET = re.compile(r"(?P<scheme>[a-z][a-z0-9+.-]*://)[^/\s@]+@")
# Words after which a value is a secret, in whatever file: better one too many.
_NAMED = re.compile(
    r"(?i)(?P<key>\b[\w.-]*(?:password|passwd|secret|token|api[_-]?key)[\w.-]*\"?\s*[:=]\s*)"
    r"(?:\"(?P<quoted>[^\"]*)\"|(?P<plain>[^\s\",;}]+))"
)
_CLOCK = re.compile(r"^\d{1,2}:\d{2}(?::\d{2})?$")
LOCAL = ("127.0.0.1", "0.0.0.0", "255.255.255.255", "::1")
SHORTEST_SECRET = 3


class Redactor:
    """Takes out ``secrets`` (values), and everything that looks like an address, a mail address, the part of a URL
    before an @, and what follows a word such as "password". The same address becomes the same word each time. ``names``
    are other words to take out (user, host), with what stands for them."""

    def __init__(self, secrets: Iterable[str], names: dict[str, str]) -> None:
        self._secrets = sorted({one for one in secrets if len(one) >= SHORTEST_SECRET}, key=len, reverse=True)
        self._names = sorted(
            ((word, put) for word, put in names.items() if len(word) > 1), key=lambda one: -len(one[0])
        )
        self._addresses: dict[str, str] = {}
        self.counts: dict[str, int] = {}

    def text(self, text: str) -> str:
        """The same without any of that."""
        for secret in self._secrets:
            text = self._replaced(text, re.compile(re.escape(secret)), "secret values", lambda _: "[secret]")
        text = self._replaced(text, _NAMED, "values after words such as password", _hidden)
        text = self._replaced(text, _URL_SECRET, "names and passwords in URLs", lambda one: f"{one['scheme']}[secret]@")
        text = self._replaced(text, _MAIL, "mail addresses", lambda _: "[mail]")
        for pattern in (_IPV4, _IPV6):
            text = self._replaced(text, pattern, "addresses", self._address)
        for word, put in self._names:
            pattern = re.compile(rf"(?<!\w){re.escape(word)}(?!\w)")
            text = self._replaced(text, pattern, "names of users and hosts", _always(put))
        return text

    def _address(self, match: "re.Match[str]") -> str:
        found = match[0]
        if (
            found in LOCAL
            or _CLOCK.match(found)
            or ("." in found and any(int(part) > 255 for part in found.split(".")))
        ):
            return found
        return self._addresses.setdefault(found, f"[address {len(self._addresses) + 1}]")

    def _replaced(self, text: str, pattern: "re.Pattern[str]", what: str, by: "Callable[[re.Match[str]], str]") -> str:
        def once(match: "re.Match[str]") -> str:
            put = by(match)
            if put != match[0]:
                self.counts[what] = self.counts.get(what, 0) + 1
            return put

        return pattern.sub(once, text)


def _always(text: str) -> Callable[["re.Match[str]"], str]:
    return lambda _: text


def _hidden(match: "re.Match[str]") -> str:
    """The key with a secret that is no secret; quotes stay, so that JSON stays JSON."""
    return f'{match["key"]}"[secret]"' if match["quoted"] is not None else f"{match['key']}[secret]"

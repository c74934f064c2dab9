"""The page for players as one HTML document that asks for nothing from elsewhere.

Every text is escaped; scripts and the style are named to the browser by their hashes (Content Security Policy Level 3),
so that nothing else can run, whatever a server's description says.
"""

import base64
import hashlib
import html
from collections.abc import Iterator, Mapping, Sequence

import msgspec

from rhizon.core.kit.readme import SYSTEMS, Texts, steps_for
from rhizon.core.model.kit import KitManifest, KitPiece

__all__ = ["Change", "PageParts", "changes_between", "page_html"]


class Change(msgspec.Struct, frozen=True, kw_only=True):
    """What is different from the page before: the sentence's name, and its words."""

    name: str
    words: dict[str, str]


class PageParts(msgspec.Struct, frozen=True, kw_only=True):
    """What the page is made of beside the manifest: its sentences, scripts and style, the address as a picture (SVG, ""
    for none), the name of the kit beside it ("" for none), and the day on which it is written."""

    texts: Texts
    scripts: Mapping[str, str]
    style: str
    qr: str
    kit_file: str
    date: str
    changes: Sequence[Change] = ()


def changes_between(before: KitManifest, now: KitManifest) -> list[Change]:
    """What players notice of a change."""
    was = {one.id: one for one in before.pieces}
    is_now = {one.id: one for one in now.pieces}
    found = []
    if before.loader is not None and now.loader is not None:
        names = [f"{one.title} {one.build.text}" for one in (before.loader, now.loader)]
        if names[0] != names[1]:
            found.append(Change(name="page.change.loader", words={"before": names[0], "version": names[1]}))
    if before.game_version != now.game_version:
        words = {
            "before": f"{before.game_title} {before.game_version}",
            "version": f"{now.game_title} {now.game_version}",
        }
        found.append(Change(name="page.change.loader", words=words))
    for name in sorted({*was, *is_now}):
        old, new = was.get(name), is_now.get(name)
        if new is None and old is not None:
            found.append(Change(name="page.change.gone", words={"title": old.title}))
        elif old is None and new is not None:
            found.append(Change(name="page.change.new", words={"title": new.title, "version": new.version.text}))
        elif old is not None and new is not None and old.version != new.version:
            words = {"title": new.title, "before": old.version.text, "version": new.version.text}
            found.append(Change(name="page.change.release", words=words))
    return found


def _e(text: object) -> str:
    return html.escape(str(text), quote=True)


def _hash(text: str) -> str:
    return "'sha256-" + base64.b64encode(hashlib.sha256(text.encode()).digest()).decode() + "'"


def _data(name: str, value: object) -> str:
    """A block of data that no browser runs; ``<`` is written otherwise, so that nothing ends it."""
    text = msgspec.json.encode(value, enc_hook=str).decode().replace("<", "\\u003c")
    return f'<script type="application/json" id="{name}">{text}</script>'


def page_html(kit: KitManifest, parts: PageParts) -> str:
    """The whole document."""
    texts = parts.texts
    script = f"{parts.scripts['judge.js']}\n{parts.scripts['app.js']}"
    policy = "; ".join(
        (
            "default-src 'none'",
            f"script-src {_hash(script)} 'wasm-unsafe-eval'",
            f"style-src {_hash(parts.style)}",
            "img-src data:",
            "connect-src 'self'",
            "worker-src blob:",
            "base-uri 'none'",
            "form-action 'none'",
        )
    )
    lines = [
        "<!doctype html>",
        f'<html lang="{_e(texts["language"])}">',
        "<head>",
        '<meta charset="utf-8">',
        f'<meta http-equiv="Content-Security-Policy" content="{policy}">',
        '<meta name="viewport" content="width=device-width, initial-scale=1">',
        '<meta name="referrer" content="no-referrer">',
        f"<title>{_e(kit.title)} {_e(texts['page.players'])}</title>",
        '<link rel="icon" href="data:,">',
        f"<style>{parts.style}</style>",
        "</head>",
        "<body>",
        "<main>",
        *_head(kit, parts),
        *_how(kit, parts),
        *_check(parts),
        *_content(kit, parts),
        *_changes(parts),
        "</main>",
        *_foot(kit, parts),
        _data("kit", kit),
        _data("texts", dict(texts)),
        f'<script type="text/plain" id="hash">{parts.scripts["sha256.js"]}</script>',
        f'<script type="text/plain" id="worker">{parts.scripts["worker.js"]}</script>',
        f"<script>{script}</script>",
        "</body>",
        "</html>",
    ]
    return "\n".join(lines) + "\n"


def _head(kit: KitManifest, parts: PageParts) -> Iterator[str]:
    texts = parts.texts
    yield f"<h1>{_e(kit.title)}</h1>"
    if kit.description:
        yield f'<p class="about">{_e(kit.description)}</p>'
    need = f"{_e(kit.game_title)} {_e(kit.game_version)}"
    if kit.loader is not None:
        need += f", {_e(kit.loader.title)} {_e(kit.loader.build)}"
    yield f'<p>{need}. <span id="state" role="status">{_e(texts["page.state-unknown"])}</span></p>'
    if kit.also_game:
        also = texts["also-game"].format(versions=", ".join(kit.also_game), protocol=kit.protocol)
        yield f"<p>{_e(also)}</p>"
    if not kit.join:
        yield f"<p>{_e(texts['no-address'])}</p>"
        return
    yield '<div class="join"><div>'
    yield f'<span>{_e(texts["page.address"])}</span> <code id="address">{_e(kit.join)}</code>'
    yield f'<button type="button" id="copy">{_e(texts["page.copy"])}</button> <span id="copied" role="status"></span>'
    yield f"<p>{_e(texts['password'])}</p></div>"
    if parts.qr:
        yield f'<div role="img" aria-label="{_e(texts["page.qr"])}">{parts.qr}</div>'
    yield "</div>"


def _how(kit: KitManifest, parts: PageParts) -> Iterator[str]:
    texts = parts.texts
    yield f'<h2 id="how">{_e(texts["page.how"])}</h2>'
    if parts.kit_file:
        name = _e(parts.kit_file)
        yield f'<p><a class="download" href="{name}" download>{_e(texts["page.download"])}</a></p>'
    systems = [one for one in SYSTEMS if not kit.folders or one in kit.folders]
    yield f'<fieldset id="systems" hidden><legend>{_e(texts["page.system"])}</legend>'
    for one in systems:
        yield (f'<label><input type="radio" name="system" value="{one}"> {_e(texts[f"system.{one}"])}</label>')
    yield "</fieldset>"
    for one in systems:
        yield f'<div class="steps" id="steps-{one}"><h3>{_e(texts[f"system.{one}"])}</h3><ol>'
        for step in steps_for(texts, kit, one):
            yield f"<li>{_e(step)}</li>"
        yield "</ol></div>"


def _check(parts: PageParts) -> Iterator[str]:
    texts = parts.texts
    yield f"<noscript><p>{_e(texts['page.script'])}</p></noscript>"
    yield '<section id="check" hidden>'
    yield f"<h2>{_e(texts['page.check'])}</h2>"
    yield f'<p id="check-how">{_e(texts["page.check-how"])}</p>'
    yield (
        f'<label class="choose">{_e(texts["page.choose"])} <input type="file" id="folder" webkitdirectory multiple '
        'aria-describedby="check-how"></label>'
    )
    yield f'<button type="button" id="stop" hidden>{_e(texts["page.cancel"])}</button>'
    yield f'<progress id="progress" max="100" value="0" hidden aria-label="{_e(texts["page.check"])}"></progress>'
    yield '<p id="reading" role="status"></p><div id="result"></div></section>'


def _content(kit: KitManifest, parts: PageParts) -> Iterator[str]:
    texts = parts.texts
    yield f"<h2>{_e(texts['page.content'])}</h2>"
    if not kit.pieces:
        yield f"<p>{_e(texts['page.none-needed'])}</p>"
        return
    heads = "".join(f'<th scope="col">{_e(texts[name])}</th>' for name in ("page.name", "page.release", "page.what"))
    yield f"<table><thead><tr>{heads}</tr></thead><tbody>"
    for piece in sorted(kit.pieces, key=lambda one: (one.optional, one.title)):
        yield f"<tr><td>{_e(piece.title)}</td><td>{_e(piece.version)}</td><td>{_what(piece, texts)}</td></tr>"
    yield "</tbody></table>"


def _what(piece: KitPiece, texts: Texts) -> str:
    said = [piece.summary] if piece.summary else []
    if piece.optional:
        said.insert(0, texts["page.optional"])
    elif not said:
        said = [texts["page.required"]]
    text = _e(" ".join(said))
    if not piece.packed and piece.page.startswith(("https://", "http://")):
        text += f' <a href="{_e(piece.page)}" rel="noreferrer noopener">{_e(piece.page)}</a>'
    return text


def _changes(parts: PageParts) -> Iterator[str]:
    if parts.changes:
        yield f"<h2>{_e(parts.texts['page.changes'])}</h2><ul>"
        for change in parts.changes:
            text = parts.texts[change.name]
            for word, value in change.words.items():
                text = text.replace(f"{{{word}}}", value)
            yield f"<li>{_e(text)}</li>"
        yield "</ul>"


def _foot(kit: KitManifest, parts: PageParts) -> Iterator[str]:
    texts = parts.texts
    contact = f"<p>{_e(texts['ask'].replace('{contact}', kit.contact))}</p>" if kit.contact else ""
    yield f"<footer>{contact}<p>{_e(texts['page.written'].replace('{date}', parts.date))}</p></footer>"

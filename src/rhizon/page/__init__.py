"""The parts of the page for players: a style, scripts, and its sentences (``en.json``: the one file to translate).

``sha256.js`` is hash-wasm 4.13 (MIT, ``sha256.LICENSE.txt``), for browsers without ``crypto.subtle`` and for files
that are too large to hold.
"""

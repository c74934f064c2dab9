"""Typed documents: what people write as TOML and machines as JSON.

Every document is a frozen struct that refuses unknown fields; ``decode`` reads one from bytes and, when it is wrong,
names every mistake with its line. What a document means to the rest of Rhizon is not here.

Begin with :mod:`rhizon.core.model.documents` (the table of all of them) and ``base.py`` (the kinds of text).
"""

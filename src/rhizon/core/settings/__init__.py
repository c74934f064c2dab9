"""One meaning, many native files.

A definition says where a setting is stored; here settings become edits (``apply.py``), edits become bytes
(``dialects/``), and two people's edits of one file are merged (``merge.py``). No file is opened.

Begin with :mod:`rhizon.core.settings.apply`.
"""

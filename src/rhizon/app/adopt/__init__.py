"""Taking over a server that somebody made by hand: what it is, and the records that say so. Nothing is changed.

Begin with :func:`~rhizon.app.adopt.adopt.adopt`; ``recognise.py`` says what a folder is.
"""

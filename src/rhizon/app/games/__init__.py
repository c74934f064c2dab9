"""Game definitions: listed, checked, started and tried on a real server.

A definition is a document of :mod:`rhizon.core.model.game`; what must hold within it is in ``game_rules.py`` there.
Here is what goes beyond that: what is odd though usable, and what a real folder and log show.

Begin with :mod:`rhizon.app.games.check`.
"""

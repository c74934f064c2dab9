"""Game definitions: listed, checked, begun and tried on a real server.

Begin with :mod:`rhizon.app.games.check`.
"""

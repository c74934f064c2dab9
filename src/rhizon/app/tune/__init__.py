"""Settings, memory and ports of a server that exists: what they are, and changing them.

Begin with :mod:`rhizon.app.tune.set_settings`.
"""

"""Settings, memory and ports of a server that exists: what they are, and changing them.

Each change is a plan that ``--dry-run`` shows, carried out in the one way of :mod:`rhizon.app.instance.change`. How a
native file is edited is :mod:`rhizon.core.settings`, how a number is found :mod:`rhizon.core.allocate`.

Begin with :mod:`rhizon.app.tune.set_settings`.
"""

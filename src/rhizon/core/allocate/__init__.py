"""Sharing one machine between its servers: memory and ports.

What others hold and what a socket says are arguments. ``memory.py`` estimates before a server ever ran, ``measured.py``
reads what its runs have shown, ``ports.py`` finds numbers, ``rules.py`` writes what a firewall has to let in.

Begin with :mod:`rhizon.core.allocate.ports` or :mod:`rhizon.core.allocate.memory`.
"""

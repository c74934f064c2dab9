"""The edges: files, network, processes, sockets, clock. They carry out and decide nothing.

Each module wraps one outside thing and turns its errors into ours at that place. What is written into a server's folder
goes through ``transact.py`` (all or nothing) and ``inside.py`` (no links followed); bytes from a catalog come through
``http.py`` and ``fetching.py`` and are used only once their hash is right.

Begin with :mod:`rhizon.adapters.transact` and :mod:`rhizon.adapters.store`.
"""

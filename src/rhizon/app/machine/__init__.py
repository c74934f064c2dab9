"""All servers of this machine together: the list, their names, memory and disk, the store that they share.

What one server is, its own folder says; the ledger is an index of that (:mod:`rhizon.app.instance.reservations`).
Nothing here starts or changes a server but for its name.

Begin with :mod:`rhizon.app.machine.list_instances`; a word becomes a server in ``find_server.py``.
"""

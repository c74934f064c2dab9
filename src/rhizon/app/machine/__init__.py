"""All servers of this machine together: the list, memory and disk, the store that they share.

Begin with :mod:`rhizon.app.machine.list_instances`.
"""

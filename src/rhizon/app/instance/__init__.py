"""What several use cases share about one server: its state, the one way to change it, and who holds what.

No use case is here. Begin with :mod:`rhizon.app.instance.exclusive` (who may change it) and
:mod:`rhizon.app.instance.change` (how).
"""

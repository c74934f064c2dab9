"""What will be there: sources are read, targets and releases chosen and explained, runtimes found.

Nothing is written but a lock.

Begin with :mod:`rhizon.app.choose.sources` (what a person named) and :mod:`rhizon.app.choose.resolve` (what fits).
"""

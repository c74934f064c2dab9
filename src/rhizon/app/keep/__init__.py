"""Keeping a server well: checks, repairs, kept states and backups, and ways back to them.

Begin with :mod:`rhizon.app.keep.check`; undo and restore share :mod:`rhizon.app.keep.roll_back`.
"""

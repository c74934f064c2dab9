"""Keeping a server well: checks, repairs, kept states and backups, and ways back to them.

Where bytes come back from differs (the store, a kept state, a repository); how they are put back is the same
(:mod:`rhizon.app.keep.roll_back`). The repository itself, its pieces and its keys, is :mod:`rhizon.adapters.backups`.

Begin with :mod:`rhizon.app.keep.check`; ``backup.py`` makes backups, ``find_backup.py`` finds them.
"""

"""A server's process: started, judged until it is ready, watched, stopped.

What a log line means is decided in :mod:`rhizon.core.boot`, the command line in :mod:`rhizon.core.launch`; pipes,
signals and the console's socket are in :mod:`rhizon.adapters`.

Begin with :mod:`rhizon.app.run.server`; :mod:`rhizon.app.run.run` is the command.
"""

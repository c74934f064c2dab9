"""A server's process: started, judged until it is ready, watched, stopped.

Begin with :mod:`rhizon.app.run.server`; :mod:`rhizon.app.run.run` is the command.
"""

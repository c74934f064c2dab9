"""The keeper: a small process of its own for each server that runs. It owns the server's console, log and samples.

It is started by ``rhizon start`` as ``python -m rhizon.keeper FOLDER`` and reads what to do from ``keeper-job.json``.
It imports nothing but the standard library, since one of these runs beside every server; what needs more (a backup, a
crash report) it leaves to a command of Rhizon that it starts. Nothing here decides what a game is: patterns and
commands come with the job.

Begin with ``loop.py``. A keeper that dies ends nothing: the server's output goes to a file, its input comes from a FIFO
that it holds open itself, and the next keeper goes on from what is on the disk.
"""

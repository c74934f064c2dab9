"""The command line: parse, ask, print, exit code.

A command is one file in ``commands/``: options in, one call of a use case, an :class:`~rhizon.cli.command.Answer` out.
What all commands share (their options, one answer for people and programs, several servers) is in ``command.py``;
nothing is decided here that :mod:`rhizon.app` could decide. A module of a command is imported when it runs.

Begin with :mod:`rhizon.cli.command` and any file in ``commands/``; ``main.py`` turns errors into exit codes.
"""

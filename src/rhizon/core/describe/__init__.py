"""What a real server's folder shows of its game: the beginning of a definition, for a person to correct.

Begin with :func:`~rhizon.core.describe.propose.propose`. Everything here is a guess with its reason beside it; nothing
is read from a disk.
"""

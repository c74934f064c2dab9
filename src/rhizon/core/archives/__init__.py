"""What an archive is, read from its bytes.

Entries are checked before anything is unpacked (``entries.py``); metadata is read by the rules of a game definition
(``metadata/``, ``facts.py``), class files and assemblies by readers of their own (``classfile.py``, ``assembly.py``).
What their code says of where they can run is ``evidence.py``, what several archives are together ``together.py``.
Nothing is executed.

Begin with :mod:`rhizon.core.archives.scan`.
"""

"""One module for each use case: typed inputs and a :class:`~rhizon.app.reporter.Reporter` in, a typed result out.

The rooms are named by what an administrator does: ``choose``, ``provision``, ``tune``, ``run``, ``keep``, ``machine``,
``publish``, ``games``; ``instance`` and ``archives`` are what several of them share. Nothing here prints, parses
options or knows an exit code beside those of errors; what decides without the disk is in :mod:`rhizon.core`, what
touches the disk, the network or a process is in :mod:`rhizon.adapters`. The imports between the rooms run in no circle.

Begin with :mod:`rhizon.app.host` (what every use case needs of this machine) and :mod:`rhizon.app.provision.provision`
(the longest of them). ``results.py`` lists what each command answers.
"""

"""The heart of Rhizon: values and bytes in, values and bytes out.

No I/O, no clock, no environment, no interface: a test holds that this package imports none of the modules for them.
Documents are typed in ``model/``; ``solve/`` chooses releases, ``archives/`` reads what content is, ``settings/`` edits
native files, ``allocate/`` shares memory and ports, ``runtimes/`` knows languages. Beside them are the plan of a change
(``plan.py``), what differs between two states (``changes.py``) and the judgement of a start (``boot.py``).

Begin with :mod:`rhizon.core.model.documents` and :mod:`rhizon.core.plan`.
"""

"""Rules: what keeps a server from starting, or makes it start wrong, known without starting it.

Begin with ``registry.py``. A rule is a pure function over an ``Observation`` (``observation.py``); what it looks at is
gathered in ``app/foresee/``. The same rules are used by ``check``, before a start and after a change.
"""

"""What would keep a server from starting, or make it start wrong: gathered here, judged by ``core/check``.

Begin with :mod:`rhizon.app.foresee.foresee`; ``observe.py`` looks at the server's folder and at the machine.
"""

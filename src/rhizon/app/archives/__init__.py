"""Archives of a person's own: scanned, judged together, and turned into items as a catalog has them.

What an archive says and shows is decided in :mod:`rhizon.core.archives`; here are the files, the cache of facts and the
limits on time. No server is involved.

Begin with :mod:`rhizon.app.archives.scan`.
"""

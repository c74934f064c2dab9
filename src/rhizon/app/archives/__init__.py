"""Archives of a person's own: scanned, judged together, and turned into items as a catalog has them.

Begin with :mod:`rhizon.app.archives.scan`.
"""

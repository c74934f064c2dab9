"""Catalogs that a person makes: built from archives, served over HTTP.

The facts of the archives come from :mod:`rhizon.app.archives`; the documents of a catalog are
:mod:`rhizon.core.model.catalog`. Reading a catalog is elsewhere (:mod:`rhizon.adapters.catalogs`).

Begin with :mod:`rhizon.app.publish.build_catalog`.
"""

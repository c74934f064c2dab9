"""Catalogs that a person makes: built from archives, served over HTTP.

Begin with :mod:`rhizon.app.publish.build_catalog`.
"""

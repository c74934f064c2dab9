"""The Harbour Lights club's made-up world: catalogs, lists and small stand-ins.

It imports nothing of Rhizon's, and Rhizon's core knows nothing of it: the demo and the tests use it.
"""

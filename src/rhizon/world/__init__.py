"""The Harbour Lights club's made-up world: catalogs, lists and small stand-ins. It imports nothing of Rhizon's."""

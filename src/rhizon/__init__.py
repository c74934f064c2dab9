"""Rhizon: from a modpack or a content list to a dedicated server that players can join."""

__version__ = "0.1.0"

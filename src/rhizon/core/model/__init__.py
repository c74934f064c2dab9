"""Typed documents. ``decode`` reads one from bytes; ``DOCUMENTS`` lists them all."""

"""The heart of Rhizon: values and bytes in, values and bytes out. No I/O, no interface."""

"""Use cases on a server that was laid out by hand: no process, no network."""

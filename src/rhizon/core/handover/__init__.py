"""A server handed over to an engine that runs containers: what it is, and the files for each engine."""

"""A server, or a list, handed over to an engine: container, compose, Kubernetes."""

"""The edges: files, network, processes, sockets, clock. They carry out and decide nothing."""

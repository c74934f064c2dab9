"""Rented servers: what they are (``remotes``), and sending a server there (``push``)."""

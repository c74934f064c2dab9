"""From where a server can be reached, and what a router has to do for it: decided from values, with no network."""

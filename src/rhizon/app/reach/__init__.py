"""How players reach a server: addresses to hand out, ports that a router forwards, and the first broken link."""

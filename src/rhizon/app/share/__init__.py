"""What players get: a kit of all that they need (``kit``), a page (``page``), and whether a folder fits (``match``)."""

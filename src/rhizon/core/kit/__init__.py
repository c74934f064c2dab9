"""What players need: the manifest of a kit (``manifest``), its instructions (``readme``), whether a player's folder
fits it (``judge``), and what else can stand for a folder, a listing or a log (``listing``). Pure: values in, values
out."""

"""One meaning, many native files."""

"""The command line: parse, ask, print, exit code."""

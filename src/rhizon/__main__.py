"""``python -m rhizon`` is the same as ``rhizon``."""

from rhizon.cli.entry import main

if __name__ == "__main__":
    main()

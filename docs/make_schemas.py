"""Write docs/schemas/ from the typed documents: python docs/make_schemas.py"""

import json
import pathlib

from rhizon.core.model.documents import DOCUMENTS, schema

FOLDER = pathlib.Path(__file__).parent / "schemas"


def texts() -> dict[str, str]:
    """Every schema's file name with its text."""
    return {f"{one.name}.schema.json": json.dumps(schema(one), indent=2) + "\n" for one in DOCUMENTS}


if __name__ == "__main__":
    FOLDER.mkdir(exist_ok=True)
    for old in FOLDER.glob("*.json"):
        old.unlink()
    for name, text in texts().items():
        (FOLDER / name).write_text(text, "utf-8")
    print(f"{len(texts())} schemas in {FOLDER}")

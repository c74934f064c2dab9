"""Write docs/schemas/ from the typed documents and results: python docs/make_schemas.py"""

import json
import pathlib

from rhizon.adapters.games import field_texts
from rhizon.app.results import RESULTS, answer_schema
from rhizon.core.model.documents import DOCUMENTS, schema
from rhizon.core.model.game_fields import described_schema

FOLDER = pathlib.Path(__file__).parent / "schemas"


def texts() -> dict[str, str]:
    """Every schema's path below the folder, with its text."""
    made = {f"{one.name}.schema.json": schema(one) for one in DOCUMENTS}
    made["game.schema.json"] = described_schema(made["game.schema.json"], field_texts())
    made |= {f"results/{name.replace(' ', '-')}.schema.json": answer_schema(name) for name in RESULTS}
    return {name: json.dumps(one, indent=2) + "\n" for name, one in made.items()}


if __name__ == "__main__":
    (FOLDER / "results").mkdir(parents=True, exist_ok=True)
    for old in FOLDER.rglob("*.json"):
        old.unlink()
    for name, text in texts().items():
        (FOLDER / name).write_text(text, "utf-8")
    print(f"{len(texts())} schemas in {FOLDER}")

"""Write docs/game-fields.md from the typed game definition and games/fields.toml: python docs/make_fields.py"""

import pathlib

from rhizon.adapters.games import field_texts
from rhizon.core.model.game_fields import field_lines

FILE = pathlib.Path(__file__).parent / "game-fields.md"
HEAD = """# Every field of a game definition

`ID.game.toml` says all that Rhizon knows about one game ([describe-a-game.md](describe-a-game.md) walks through it,
and [formats.md](formats.md) has the syntax of keys and expressions). In the names of tables, `NAME` and `KIND` stand
for a name of yours and a kind of content. `store` is written the same wherever a value is kept; `also`, `answer`,
`enabled`, `last` and `span` have its fields. **Bold** fields are required.

An editor completes and checks a definition by its JSON Schema: `rhizon game schema -o game.schema.json`, and `#:schema
./game.schema.json` as the definition's first line.

"""
COLUMNS = "| field | type | default | meaning | example |\n| --- | --- | --- | --- | --- |\n"


def text() -> str:
    """The page."""
    parts = [HEAD]
    table = ""
    for one in field_lines(field_texts()):
        if one.table != table:
            table = one.table
            title = "The definition" if table == "definition" else f"`[{table}]`"
            parts.append(
                f"\n## {title}\n\n| field | type | default | meaning | example |\n| --- | --- | --- | --- | --- |\n"
            )
        name = f"**`{one.name}`**" if one.needed else f"`{one.name}`"
        default = f"`{one.default}`" if one.default else ""
        example = one.example.replace("|", "\\|")
        parts.append(f"| {name} | {one.type} | {default} | {one.meaning} | `{example}` |\n")
    return "".join(parts).replace("\n\n\n", "\n\n")


if __name__ == "__main__":
    FILE.write_text(text(), "utf-8")
    print(FILE)

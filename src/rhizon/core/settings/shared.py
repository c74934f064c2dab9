"""Settings that many games have: one name for one meaning over all of them, so that a settings preset reaches each."""

import difflib
from typing import NamedTuple

__all__ = ["SHARED", "Shared", "meant"]

ALIKE = 0.84  # of difflib's ratio: max_playrs and max_players are alike, no_fog and view_distance are not


class Shared(NamedTuple):
    """What a name means in every game, the types of value that it may have, and what else people call it."""

    meaning: str
    types: tuple[str, ...]
    others: tuple[str, ...] = ()


SHARED = {
    "name": Shared("name shown in the players' list of servers", ("text",), ("title", "server_name", "host_name")),
    "description": Shared("one line about the server", ("text",), ("greeting_line", "server_description")),
    "password": Shared("password that players type to join; a secret", ("text",), ("join_password", "pass_word")),
    "visibility": Shared("whether it is in the public list of servers", ("flag", "choice"), ("public", "listed")),
    "region": Shared("region, for the public list", ("text", "choice"), ("server_region",)),
    "max_players": Shared("largest number of players", ("integer",), ("maximum_players", "slots", "capacity")),
    "mode": Shared("game mode", ("choice", "text"), ("game_mode", "play_mode")),
    "difficulty": Shared("difficulty", ("choice", "integer"), ("hardness",)),
    "pvp": Shared("whether players can hurt each other", ("flag", "choice"), ("player_damage", "friendly_fire")),
    "view_distance": Shared("how far players see", ("integer",), ("draw_distance", "sight")),
    "seed": Shared("seed of a new world", ("integer", "text"), ("world_seed",)),
    "world_name": Shared("world in use", ("text",), ("world", "map", "map_name", "save_name")),
    "world_size": Shared("size of a new world", ("integer", "choice"), ("map_size",)),
    "world_template": Shared("template of a new world", ("text", "choice"), ("template", "scenario")),
    "autosave": Shared("minutes between two saves", ("integer", "flag"), ("save_interval", "save_minutes")),
    "anti_cheat": Shared("whether cheats are detected", ("flag", "choice"), ("cheat_guard",)),
    "signature_check": Shared(
        "whether content without a valid signature is refused", ("flag", "choice"), ("signatures",)
    ),
    "operators": Shared("operators", ("names",), ("admins", "administrators", "moderators")),
    "allowlist": Shared("players on the allowlist", ("names",), ("allowed_players", "guest_list")),
    "allowlist_only": Shared("whether only players on the allowlist can join", ("flag",), ("allowlist_enabled",)),
    "language": Shared("language of the server", ("text", "choice"), ("locale",)),
    "time_zone": Shared("time zone", ("text", "choice"), ("zone",)),
    "address": Shared("the address to listen on", ("text",), ("listen_address", "bind_address", "listen_on")),
}


def meant(name: str) -> str | None:
    """The shared name that a definition's own ``name`` seems to mean: another word for it, its words in another order,
    or a slip of the pen."""
    if name in SHARED:
        return None
    words = sorted(name.split("_"))
    for shared, one in SHARED.items():
        if name in one.others or sorted(shared.split("_")) == words or shared.replace("_", "") == "".join(words):
            return shared
    bare = name.replace("_", "")
    alike = difflib.get_close_matches(bare, [one.replace("_", "") for one in SHARED], n=1, cutoff=ALIKE)
    return next((one for one in SHARED if one.replace("_", "") == alike[0]), None) if alike else None

"""Secrets that a list names the source of: read from a file, drawn once, or typed by a person."""

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.secret_sources import read_secret
from rhizon.app.instance.native_files import native_values
from rhizon.app.provision.choose import Choice
from rhizon.app.provision.generate import new_password
from rhizon.app.provision.wishes import ProvisionWishes
from rhizon.core.errors import InputError
from rhizon.core.model.instance import Instance
from rhizon.core.secret import Secret
from rhizon.core.settings.apply import check_secrets

__all__ = ["resolve_secrets"]


def resolve_secrets(
    home: InstanceFolder, choice: Choice, wishes: ProvisionWishes, before: Instance | None
) -> dict[str, Secret]:
    """Every secret that has to be written now: those of the command line, then those of the list. What is drawn or
    typed is so once for each server; a file is read each time. A dry run draws and asks for none. Raises InputError."""
    found = dict(wishes.secrets)
    for name, source in choice.source.secrets.items():
        if name in found:
            continue
        if source.file is not None:
            found[name] = read_secret(choice.source.beside / source.file)
        elif not wishes.dry_run and not _is_set(home, choice, before, name):
            found[name] = new_password() if source.generate else _asked(wishes, name)
    check_secrets(choice.game, found)
    return found


def _is_set(home: InstanceFolder, choice: Choice, before: Instance | None, name: str) -> bool:
    """Whether the server's own file has it already."""
    place = choice.game.settings[name].store
    if before is None or not before.first_start_done or place is None:
        return False
    return bool(native_values(home, place).get(place.key))


def _asked(wishes: ProvisionWishes, name: str) -> Secret:
    if wishes.ask_secret is None:
        raise InputError(
            "nobody-to-ask",
            f"{name} must be typed (the list says so), and there is no terminal",
            hint=f"Name a file that only you can read, as in --secret {name}=secret.txt, or --secret {name}=generate.",
        )
    return wishes.ask_secret(name)

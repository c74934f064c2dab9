"""From a laid-out instance to one that can run: licence, first start, settings."""

import hashlib
from collections.abc import Mapping

import msgspec

from rhizon.adapters.host import now
from rhizon.adapters.instances import InstanceFolder
from rhizon.app.first_start import first_start
from rhizon.app.native import answer_licence, read_native, write_edits, write_operators
from rhizon.app.ports import port_places
from rhizon.app.provision.choose import Choice
from rhizon.app.provision.wishes import AskLicence, LicenceText, ProvisionWishes, State
from rhizon.app.reporter import Reporter
from rhizon.core.finding import Finding
from rhizon.core.model.instance import Instance, LicenceAnswer
from rhizon.core.settings.apply import NativeEdits, edits_for, keep_edits

__all__ = ["bring_up", "until_written"]


def until_written(before: Instance | None, instance: Instance) -> Instance:
    """The instance as it is recorded until its settings stand in the native files.

    What is recorded is what :func:`keep_edits` takes for written: a setting that could not be written must
    not look like one that a person edited afterwards. The first start writes everything, so before it
    nothing can be mistaken.
    """
    if before is None or not instance.first_start_done:
        return instance
    return msgspec.structs.replace(instance, settings=before.settings)


def bring_up(
    choice: Choice,
    wishes: ProvisionWishes,
    home: InstanceFolder,
    before: Instance | None,
    instance: Instance,
    reporter: Reporter,
    ask_licence: AskLicence | None,
) -> tuple[Instance, list[Finding], State]:
    """Answers the instance as it then is, findings, and the state: "prepared" without an accepted licence."""
    answer = _licence(choice, wishes, home, instance, ask_licence)
    if choice.game.licence is not None:
        if answer is None:
            return instance, [], "prepared"
        if answer != instance.licence:
            instance = msgspec.structs.replace(instance, licence=answer)
            home.write_instance(until_written(before, instance))
        answer_licence(home.folder, choice.game.licence.answer, choice.game.licence.accepted)
    game = choice.game
    edits = _edits(choice, {**instance.settings, **wishes.secrets}, instance.ports)
    secret_files = frozenset(one.store.file for one in game.settings.values() if one.secret)
    if instance.first_start_done:
        typed = {name: choice.settings[name] for name in wishes.settings}
        insisted = _edits(choice, {**typed, **wishes.secrets}, instance.ports)
        last = _edits(choice, before.settings, before.ports) if before is not None else {}
        edits, findings = keep_edits(edits, last, read_native(home.folder, edits), insisted)
        changed = write_edits(home.folder, edits, secret_files)
        if write_operators(home.folder, game, instance.operators) and game.operators is not None:
            changed.append(game.operators.file)
        if changed:
            reporter.done(f"settings written into {', '.join(changed)}")
        if until_written(before, instance) != instance:
            home.write_instance(instance)
        return instance, findings, "ready to run"
    findings = first_start(home, game, instance, edits, secret_files, reporter)
    instance = msgspec.structs.replace(instance, first_start_done=True)
    home.write_instance(instance)
    return instance, findings, "ready to run"


def _edits(choice: Choice, settings: Mapping[str, str | int | bool], ports: Mapping[str, int]) -> NativeEdits:
    extra = {role: port.store for role, port in port_places(choice.game, choice.lock).items()}
    return edits_for(choice.game, settings, ports, extra)


def _licence(
    choice: Choice,
    wishes: ProvisionWishes,
    home: InstanceFolder,
    instance: Instance,
    ask_licence: AskLicence | None,
) -> LicenceAnswer | None:
    """The answer that counts, an earlier one or a new one; None when nobody accepted. It counts for one text."""
    rule = choice.game.licence
    if rule is None:
        return None
    path = home.folder / rule.text
    data = path.read_bytes() if path.is_file() else b""
    sha256 = hashlib.sha256(data).hexdigest()
    if instance.licence is not None and instance.licence.text_sha256 == sha256:
        return instance.licence
    text = LicenceText(game=choice.game.title, path=path, text=data.decode("utf-8", "replace"))
    if wishes.accept_licence or (ask_licence is not None and ask_licence(text)):
        return LicenceAnswer(accepted_at=now(), text_sha256=sha256)
    return None

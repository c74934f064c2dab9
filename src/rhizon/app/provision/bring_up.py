"""From a laid-out instance to one that can run: licence, first start, settings."""

import functools
import hashlib
import os
from collections.abc import Callable
from pathlib import Path
from typing import Literal

import msgspec

from rhizon import interrupts
from rhizon.adapters.host import now
from rhizon.adapters.instances import FIRST_START, InstanceFolder
from rhizon.app.instance.edited_files import native_edits
from rhizon.app.instance.native_files import answer_licence
from rhizon.app.instance.state import InstanceState
from rhizon.app.instance.worlds import lay_world, put_aside, world_folder
from rhizon.app.provision.choose import Choice
from rhizon.app.provision.first_start import first_start
from rhizon.app.provision.wishes import AskLicence, LicenceText, ProvisionWishes, State
from rhizon.app.reporter import Reporter
from rhizon.core.content_paths import content_paths
from rhizon.core.errors import NotReadyError
from rhizon.core.finding import Finding
from rhizon.core.launch import Launch
from rhizon.core.model.instance import Instance, LicenceAnswer
from rhizon.core.secret import revealed

__all__ = ["bring_up"]

UNEXPLAINED = ("start-ended", "start-timeout")  # a port that is taken, say, is not a fault of the world


def bring_up(
    choice: Choice,
    wishes: ProvisionWishes,
    state: InstanceState,
    reporter: Reporter,
    ask_licence: AskLicence | None,
) -> tuple[Instance, list[Finding], State]:
    """Answers the instance as it then is, findings, and the state: "prepared" without an accepted licence."""
    home, instance = state.home, state.instance
    answer = _licence(choice, wishes, home, instance, ask_licence)
    if choice.game.licence is not None:
        if answer is None:
            return instance, [], "prepared"
        if answer != instance.licence:
            instance = msgspec.structs.replace(instance, licence=answer)
            home.write_instance(instance)
        answer_licence(home, choice.game.licence.answer, choice.game.licence.accepted)
    game = choice.game
    if instance.first_start_done:  # its settings came with the transaction
        return _with_world(choice, wishes, home, instance, reporter, None), [], "ready to run"
    edits = native_edits(state.with_instance(instance), {**instance.settings, **revealed(wishes.secrets)})
    secret_files = frozenset(place.file for one in game.settings.values() if one.secret for place in one.places)
    content = wishes.first_start == "content" or (wishes.first_start is None and game.first_start.with_content)
    launch = Launch(
        choice.lock.target.loader if content else None,
        instance.runtime,
        instance.heap_mib,
        path_separator=os.pathsep,
        content=content_paths(game, choice.lock) if content else (),
    )
    start = functools.partial(first_start, home, game, instance, launch, edits, secret_files, reporter)
    findings, bare = _first_start(home, world_folder(home, game, instance), start, reporter)
    instance = msgspec.structs.replace(instance, first_start_done=True)
    return _with_world(choice, wishes, home, instance, reporter, bare), findings, "ready to run"


def _first_start(
    home: InstanceFolder, world: Path, start: Callable[[], list[Finding]], reporter: Reporter
) -> tuple[list[Finding], Literal["made it", "found it"]]:
    """The first start; once more, with the world put aside, where that is the half-made one of a start that was cut
    short and the server cannot go on with it. What it brought up, and whether the world was there before."""
    bare: Literal["made it", "found it"] = "found it" if world.exists() else "made it"
    cut_short = home.has(FIRST_START)
    if not world.exists() and not cut_short:
        home.write_own(FIRST_START, b"")
    try:
        findings = start()
    except NotReadyError as failed:
        if not cut_short or not world.exists() or failed.code not in UNEXPLAINED:
            raise
        reporter.done(f"an earlier first start was interrupted; its incomplete world is now {put_aside(home, world)}")
        findings = start()
        bare = "made it"
    home.remove_own(FIRST_START)
    return findings, bare


def _with_world(
    choice: Choice,
    wishes: ProvisionWishes,
    home: InstanceFolder,
    instance: Instance,
    reporter: Reporter,
    bare: Literal["made it", "found it"] | None,
) -> Instance:
    """The instance with a world that comes from elsewhere in place, written down."""
    words = lay_world(home, choice.game, choice.lock, instance, wishes.world, reporter, bare=bare)
    after = msgspec.structs.replace(instance, world_from=words or instance.world_from)
    if after != home.instance():
        home.write_instance(after)
    return after


def _licence(
    choice: Choice,
    wishes: ProvisionWishes,
    home: InstanceFolder,
    instance: Instance,
    ask_licence: AskLicence | None,
) -> LicenceAnswer | None:
    """The answer that counts, an earlier one or a new one; None when no one accepted. It counts for one text."""
    rule = choice.game.licence
    if rule is None:
        return None
    path = home.folder / rule.text
    data = path.read_bytes() if path.is_file() else b""
    sha256 = hashlib.sha256(data).hexdigest()
    if instance.licence is not None and instance.licence.text_sha256 == sha256:
        return instance.licence
    text = LicenceText(game=choice.game.title, path=path, text=data.decode("utf-8", "replace"))
    accepted = wishes.accept_licence
    if not accepted and ask_licence is not None:
        with interrupts.prompting():
            accepted = ask_licence(text)
    return LicenceAnswer(accepted_at=now(), text_sha256=sha256) if accepted else None

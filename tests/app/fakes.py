"""A server as provisioning leaves it, without a runtime or a first start: documents, a placed file, settings files."""

import hashlib
import json
from typing import Any

from rhizon.adapters.places import Places
from rhizon.app.host import Host
from rhizon.app.instance.change import apply_change
from rhizon.app.instance.exclusive import exclusive
from rhizon.app.instance.state import InstanceState
from rhizon.app.reporter import Reporter
from rhizon.core.model.decode import decode_json
from rhizon.core.model.documents import DOCUMENTS
from rhizon.core.model.instance import Instance, Inventory
from rhizon.core.model.lock import Lock
from rhizon.core.names import RelPath
from rhizon.core.plan import WantedFile, make_plan
from tests.core.wrong_documents import EXAMPLES
from tests.support import TARNHOLT, Case

JAR = b"a jar of reeds"
SETTINGS = b"# the marsh\nharbour.berths = 12\nharbour.password = hush\nnet.game = 21640\nnet.query = 21655\n"


class Recorder(Reporter):
    """Keeps what it was told."""

    def __init__(self) -> None:
        self.steps: list[str] = []
        self.results: list[str] = []

    def step(self, text: str) -> None:
        self.steps.append(text)

    def done(self, text: str) -> None:
        self.results.append(text)


class AppCase(Case):
    """A host with its own folders, on which servers are laid out."""

    def setUp(self) -> None:
        super().setUp()
        self.reporter = Recorder()
        self.host = self.new_host()

    def new_host(self) -> Host:
        """The same machine as the next command sees it."""
        state = self.folder / "state"
        return Host(Places(state, state, state, self.folder / "config"))

    def server(self, folder: str, name: str = "marsh", **fields: Any) -> InstanceState:
        """A server of the game Tarnholt in a folder, known to the ledger. Ports count on from those of the last one."""
        shift = len(list(self.folder.glob("*/.rhizon")))
        record = {**EXAMPLES["instance"], "name": name, "first_start_done": True, **fields}
        record["ports"] = fields.get("ports", {"game": 21640 + shift, "query": 21655 + shift})
        del record["runtime"]
        record["licence"] = {"accepted_at": "2026-11-25T00:00:00Z", "text_sha256": "0" * 64}
        record["source"] = str(self.folder / "marsh.list.toml")
        lock = json.loads(json.dumps(EXAMPLES["lock"]))
        lock["releases"][0]["file"] = {
            **lock["releases"][0]["file"], "sha256": hashlib.sha256(JAR).hexdigest(), "size": len(JAR)
        }  # fmt: skip
        home = self.host.home(self.folder / folder)
        wanted = {
            RelPath("mods/reedlight.jar"): WantedFile(
                sha256=self.host.store.add(JAR), size=len(JAR), origin="shelf:r.jar"
            )
        }
        plan = make_plan(wanted, {}, None, TARNHOLT.world)
        state = InstanceState(
            home=home, game=TARNHOLT, lock=read(Lock, lock), instance=read(Instance, record), inventory=plan.inventory
        )
        with exclusive(self.host, home, self.reporter):
            apply_change(self.host.store, None, state, plan, "made")
        self.write(f"{folder}/marsh.properties", SETTINGS.replace(b"21640", str(record["ports"]["game"]).encode()))
        self.write(f"{folder}/crew/wardens.txt", "Marit\n")
        self.write(f"{folder}/licence/answer.txt", "answer = accepted\n")
        (self.folder / folder / "config").mkdir()
        self.host = self.new_host()
        return state


def read(kind: type[Any], data: dict[str, Any]) -> Any:
    """Plain data as a document."""
    what = next(one.what for one in DOCUMENTS if one.type is kind)
    return decode_json(kind, json.dumps(data).encode(), what, what)


__all__ = ["JAR", "SETTINGS", "AppCase", "Inventory", "Recorder", "read"]

"""What each command answers, as types: the schemas in docs/schemas/results/ are made from this table."""

from typing import Any

import msgspec

from rhizon.app.adopt.adopt import AdoptResult
from rhizon.app.choose.explain import Explanation
from rhizon.app.choose.inspect import InspectResult
from rhizon.app.choose.runtimes import Runtimes
from rhizon.app.choose.solve import SolveResult
from rhizon.app.choose.targets import TargetTable
from rhizon.app.demo import AllDone, DemoDone
from rhizon.app.games.check import CheckedGame, GameList, GameSchema
from rhizon.app.games.fetch import FetchedGame
from rhizon.app.games.new_and_try import NewGame, TryResult
from rhizon.app.guides import Guide, GuideList
from rhizon.app.handover.export import ExportResult
from rhizon.app.keep.backup import BackupResult
from rhizon.app.keep.check import CheckResult
from rhizon.app.keep.export import BomResult, LockResult
from rhizon.app.keep.find_backup import Backups, VerifyResult
from rhizon.app.keep.repair import RepairResult
from rhizon.app.keep.roll_back import RollBackResult
from rhizon.app.keep.undo import KeptStateList
from rhizon.app.machine.careful_update import CarefulUpdate
from rhizon.app.machine.clone import CloneResult
from rhizon.app.machine.delete import DeleteResult
from rhizon.app.machine.forget import ForgetResult
from rhizon.app.machine.host_state import HostState, RebuildResult
from rhizon.app.machine.list_instances import Listing
from rhizon.app.machine.move import MoveResult
from rhizon.app.machine.rename import RenameResult
from rhizon.app.machine.store import PruneResult, StoreStatus, Verified
from rhizon.app.machine.try_update import UpdateTrial
from rhizon.app.machines.outcome import ApplyResult, EachResult, MachinesStatus
from rhizon.app.machines.plan import MachinesPlan
from rhizon.app.provision import ProvisionResult
from rhizon.app.publish.build_catalog import BuildResult
from rhizon.app.publish.describe import DescribeResult
from rhizon.app.publish.serve import Serving
from rhizon.app.reach.addresses import Addresses
from rhizon.app.reach.chain import Chain
from rhizon.app.reach.opened import PortsOpened
from rhizon.app.remote.check_there import CheckThereResult
from rhizon.app.remote.control_there import ControlThereResult
from rhizon.app.remote.log_there import LogThere
from rhizon.app.remote.push import PushResult
from rhizon.app.remote.remotes import RemoteResult
from rhizon.app.remote.restore_there import RestoreThereResult
from rhizon.app.remote.undo_there import UndoThereResult
from rhizon.app.run.boots import Boots
from rhizon.app.run.console import ConsoleAnswer
from rhizon.app.run.dev import DevResult
from rhizon.app.run.isolate import IsolateResult
from rhizon.app.run.logs import LogLines
from rhizon.app.run.metrics import MetricsResult
from rhizon.app.run.players import PlayerOrder, Players
from rhizon.app.run.report import ReportResult
from rhizon.app.run.run import RunResult
from rhizon.app.run.schedule import Schedule
from rhizon.app.run.service import ServiceResult
from rhizon.app.run.start import StartResult
from rhizon.app.run.status import ServerStatus, WaitResult
from rhizon.app.run.stop import StopResult
from rhizon.app.share.kit import KitResult
from rhizon.app.share.match import MatchResult
from rhizon.app.share.page import PageResult
from rhizon.app.tune.list_ports import Ports
from rhizon.app.tune.list_settings import Settings
from rhizon.app.tune.memory import MemoryAdvice
from rhizon.app.tune.move_ports import PortsMoved
from rhizon.app.tune.set_settings import SetResult
from rhizon.core.finding import Finding
from rhizon.core.model.base import schema_hook
from rhizon.core.model.game import GameDefinition

__all__ = ["RESULTS", "SEVERAL", "Script", "answer_schema"]


class Script(msgspec.Struct, frozen=True, kw_only=True):
    """Lines for a shell."""

    script: str


RESULTS: dict[str, tuple[type, ...]] = {
    "address": (Addresses,),
    "adopt": (AdoptResult,),
    "backup": (BackupResult, Backups, VerifyResult),
    "bom": (BomResult,),
    "catalog build": (BuildResult,),
    "catalog describe": (DescribeResult,),
    "catalog serve": (Serving,),
    "check": (CheckResult, CheckThereResult),
    "completion": (Script,),
    "demo": (DemoDone, AllDone),
    "dev": (DevResult,),
    "explain": (Explanation,),
    "export": (ExportResult,),
    "forget": (ForgetResult,),
    "machines apply": (ApplyResult,),
    "machines each": (EachResult,),
    "machines plan": (MachinesPlan,),
    "machines status": (MachinesStatus,),
    "game check": (CheckedGame,),
    "game fetch": (FetchedGame,),
    "game list": (GameList,),
    "game new": (NewGame,),
    "game schema": (GameSchema,),
    "game show": (GameDefinition,),
    "game try": (TryResult,),
    "help": (GuideList, Guide),
    "host": (HostState, RebuildResult),
    "inspect": (InspectResult,),
    "list": (Listing,),
    "lock": (LockResult,),
    "memory": (MemoryAdvice,),
    "ports": (Ports, PortsMoved, PortsOpened),
    "provision": (ProvisionResult,),
    "reach": (Chain,),
    "rename": (RenameResult,),
    "repair": (RepairResult,),
    "restore": (RollBackResult, RestoreThereResult),
    "isolate": (IsolateResult,),
    "boots": (Boots,),
    "clone": (CloneResult,),
    "console": (ConsoleAnswer,),
    "delete": (DeleteResult,),
    "metrics": (MetricsResult,),
    "move": (MoveResult,),
    "log": (LogLines, LogThere),
    "players": (Players, PlayerOrder),
    "report": (ReportResult,),
    "restart": (StartResult,),
    "run": (RunResult,),
    "start": (StartResult, ControlThereResult),
    "status": (ServerStatus, ControlThereResult),
    "wait": (WaitResult,),
    "runtimes": (Runtimes,),
    "schedule": (Schedule,),
    "service install": (ServiceResult,),
    "service remove": (ServiceResult,),
    "service show": (ServiceResult,),
    "set": (SetResult,),
    "settings": (Settings,),
    "solve": (SolveResult,),
    "stop": (StopResult, ControlThereResult),
    "store prune": (PruneResult,),
    "store status": (StoreStatus,),
    "store verify": (Verified,),
    "targets": (TargetTable,),
    "undo": (RollBackResult, KeptStateList, UndoThereResult),
    "kit": (KitResult,),
    "match": (MatchResult,),
    "page": (PageResult,),
    "pull": (BackupResult,),
    "push": (PushResult,),
    "remote new": (RemoteResult,),
    "remote check": (RemoteResult,),
    "remote probe": (RemoteResult,),
    "update": (ProvisionResult, UpdateTrial, CarefulUpdate),
}
SEVERAL = (
    "backup",
    "check",
    "repair",
    "restart",
    "start",
    "status",
    "stop",
    "update",
)  # commands that take several servers or --all

_TEXT = {"type": "string"}
_ERROR = {
    "type": "object",
    "required": ["code", "message", "hint", "details"],
    "properties": {
        "code": _TEXT,
        "message": _TEXT,
        "hint": _TEXT,
        "details": {"type": "array", "items": _TEXT},
        "core": {"type": "array", "items": _TEXT},
        "repairs": {"type": "array", "items": {"type": "object"}},
        "clashes": {"type": "array", "items": {"type": "object"}},
    },
    "additionalProperties": False,
}


def answer_schema(command: str) -> dict[str, Any]:
    """The JSON Schema (2020-12) of everything that a command prints with --json."""
    schemas, parts = msgspec.json.schema_components(
        (*RESULTS[command], Finding), schema_hook=schema_hook, ref_template="#/$defs/{name}"
    )
    *results, finding = schemas
    for result in results:
        whole = parts[result["$ref"].rpartition("/")[2]]
        if "findings" in whole.get("properties", {}):  # they are beside the result
            del whole["properties"]["findings"]
            whole["required"] = [name for name in whole["required"] if name != "findings"]
    answer: dict[str, Any] = {
        "type": "object",
        "required": ["format", "ok", "exit_code", "result", "findings"],
        "properties": {
            "format": {"const": "rhizon-answer/1"},
            "ok": {"type": "boolean"},
            "exit_code": {"type": "integer", "minimum": 0, "maximum": 7},
            "result": {"anyOf": [*results, {"type": "null"}]},
            "findings": {"type": "array", "items": finding},
            "error": _ERROR,
        },
        "additionalProperties": False,
    }
    if command in SEVERAL:
        one = {**answer, "required": ["server", "folder", *answer["required"]]}
        one["properties"] = {"server": _TEXT, "folder": _TEXT, **answer["properties"]}
        several = {
            "type": "object",
            "required": ["servers"],
            "properties": {"servers": {"type": "array", "items": one}},
            "additionalProperties": False,
        }
        properties = {**answer["properties"], "result": {"anyOf": [*results, several, {"type": "null"}]}}
        answer = {**answer, "properties": properties}
    title = f"answer of rhizon {command}"
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, **answer, "$defs": parts}

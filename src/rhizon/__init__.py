"""Rhizon: from a modpack or a content list to a dedicated server that players can join.

The names in ``__all__`` are the Python API (docs/api.md): the same use cases as the commands, with typed inputs and
results. Each is imported from its module when it is first used.
"""

import importlib
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from rhizon.app.choose.explain import Explanation as Explanation
    from rhizon.app.choose.explain import explain_item as explain_item
    from rhizon.app.choose.inspect import InspectResult as InspectResult
    from rhizon.app.choose.inspect import inspect as inspect
    from rhizon.app.choose.runtimes import RuntimeWish as RuntimeWish
    from rhizon.app.choose.solve import SolveResult as SolveResult
    from rhizon.app.choose.solve import SolveWishes as SolveWishes
    from rhizon.app.choose.solve import solve_to_lock as solve_to_lock
    from rhizon.app.choose.targets import TargetTable as TargetTable
    from rhizon.app.choose.targets import table_of_targets as table_of_targets
    from rhizon.app.host import Host as Host
    from rhizon.app.host import this_host as this_host
    from rhizon.app.keep.backup import BackupResult as BackupResult
    from rhizon.app.keep.backup import BackupWishes as BackupWishes
    from rhizon.app.keep.backup import back_up as back_up
    from rhizon.app.keep.check import CheckResult as CheckResult
    from rhizon.app.keep.check import check as check
    from rhizon.app.keep.export import instance_lock as instance_lock
    from rhizon.app.keep.find_backup import Sought as Sought
    from rhizon.app.keep.find_backup import list_backups as list_backups
    from rhizon.app.keep.find_backup import verify_backup as verify_backup
    from rhizon.app.keep.repair import RepairResult as RepairResult
    from rhizon.app.keep.repair import repair as repair
    from rhizon.app.keep.restore import RestoreWishes as RestoreWishes
    from rhizon.app.keep.restore import restore as restore
    from rhizon.app.keep.roll_back import RollBackResult as RollBackResult
    from rhizon.app.keep.undo import UndoWishes as UndoWishes
    from rhizon.app.keep.undo import list_kept_states as list_kept_states
    from rhizon.app.keep.undo import undo as undo
    from rhizon.app.machine.find_server import find_server as find_server
    from rhizon.app.machine.forget import forget as forget
    from rhizon.app.machine.host_state import host_state as host_state
    from rhizon.app.machine.list_instances import list_instances as list_instances
    from rhizon.app.machine.rename import rename as rename
    from rhizon.app.provision import LicenceText as LicenceText
    from rhizon.app.provision import ProvisionResult as ProvisionResult
    from rhizon.app.provision import ProvisionWishes as ProvisionWishes
    from rhizon.app.provision.provision import provision as provision
    from rhizon.app.provision.update import UpdateWishes as UpdateWishes
    from rhizon.app.provision.update import update as update
    from rhizon.app.reporter import Reporter as Reporter
    from rhizon.app.run.run import RunResult as RunResult
    from rhizon.app.run.run import RunWishes as RunWishes
    from rhizon.app.run.run import run as run
    from rhizon.app.run.stop import stop as stop
    from rhizon.app.tune.list_ports import list_ports as list_ports
    from rhizon.app.tune.list_settings import list_settings as list_settings
    from rhizon.app.tune.memory import MemoryQuestion as MemoryQuestion
    from rhizon.app.tune.memory import memory_advice as memory_advice
    from rhizon.app.tune.move_ports import move_ports as move_ports
    from rhizon.app.tune.set_settings import SetWishes as SetWishes
    from rhizon.app.tune.set_settings import set_settings as set_settings
    from rhizon.core.errors import CancelledError as CancelledError
    from rhizon.core.errors import DocumentError as DocumentError
    from rhizon.core.errors import InputError as InputError
    from rhizon.core.errors import NoSolutionError as NoSolutionError
    from rhizon.core.errors import NotReadyError as NotReadyError
    from rhizon.core.errors import RemoteError as RemoteError
    from rhizon.core.errors import RhizonError as RhizonError
    from rhizon.core.errors import StateError as StateError
    from rhizon.core.errors import TrustError as TrustError
    from rhizon.core.finding import Finding as Finding
    from rhizon.core.secret import Secret as Secret

_NAMES = {
    "app.choose.explain": "Explanation explain_item",
    "app.choose.inspect": "InspectResult inspect",
    "app.choose.runtimes": "RuntimeWish",
    "app.choose.solve": "SolveResult SolveWishes solve_to_lock",
    "app.choose.targets": "TargetTable table_of_targets",
    "app.host": "Host this_host",
    "app.keep.backup": "BackupResult BackupWishes back_up",
    "app.keep.check": "CheckResult check",
    "app.keep.export": "instance_lock",
    "app.keep.find_backup": "Sought list_backups verify_backup",
    "app.keep.repair": "RepairResult repair",
    "app.keep.restore": "RestoreWishes restore",
    "app.keep.roll_back": "RollBackResult",
    "app.keep.undo": "UndoWishes list_kept_states undo",
    "app.machine.find_server": "find_server",
    "app.machine.forget": "forget",
    "app.machine.host_state": "host_state",
    "app.machine.list_instances": "list_instances",
    "app.machine.rename": "rename",
    "app.provision": "LicenceText ProvisionResult ProvisionWishes provision",
    "app.provision.update": "UpdateWishes update",
    "app.reporter": "Reporter",
    "app.run.run": "RunResult RunWishes run",
    "app.run.stop": "stop",
    "app.tune.list_ports": "list_ports",
    "app.tune.list_settings": "list_settings",
    "app.tune.memory": "MemoryQuestion memory_advice",
    "app.tune.move_ports": "move_ports",
    "app.tune.set_settings": "SetWishes set_settings",
    "core.errors": "CancelledError DocumentError InputError NoSolutionError NotReadyError RemoteError RhizonError "
    "StateError TrustError",
    "core.finding": "Finding",
    "core.secret": "Secret",
}
_MODULES = {name: module for module, names in _NAMES.items() for name in names.split()}

__all__ = ["__version__", *_MODULES]


def __getattr__(name: str) -> Any:
    if name not in _MODULES:
        raise AttributeError(f"module 'rhizon' has no attribute {name!r}")
    found = getattr(importlib.import_module(f"rhizon.{_MODULES[name]}"), name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted(__all__)

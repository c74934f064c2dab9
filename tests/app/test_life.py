"""A server's life on files: states, logs, crashes, schedules, changes of content, without starting a server."""

import gzip
import json
import os
import subprocess
import sys
import time
from typing import Any
from unittest import mock

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.keepers import Life
from rhizon.app.foresee.good_runs import remember_good_run, seen_in_good_runs
from rhizon.app.instance.backup_places import last_backup
from rhizon.app.instance.server_state import state_of
from rhizon.app.instance.state import require_instance_state
from rhizon.app.instance.worlds import remove_left_mark, world_holder
from rhizon.app.keep.backup import back_up_before
from rhizon.app.machine.careful_update import careful_update
from rhizon.app.machine.move import move
from rhizon.app.machine.removal import remove_left_over, remove_renamed, rename_away
from rhizon.app.machine.try_update import UpdateTrial
from rhizon.app.provision.adjust import ContentChanges, adjusted, combined
from rhizon.app.provision.update import UpdateWishes
from rhizon.app.provision.wishes import ProvisionResult
from rhizon.app.run.boots import boots
from rhizon.app.run.console import ConsoleAnswer
from rhizon.app.run.crashes import after_crash, after_ready, crash_reports
from rhizon.app.run.dev import newest_build
from rhizon.app.run.logs import LogWishes, read_log
from rhizon.app.run.overview import Overview
from rhizon.app.run.players import order_players, players_on
from rhizon.app.run.schedule import add_task, list_tasks, remove_task, run_task
from rhizon.app.run.start import StartWishes, start
from rhizon.app.run.status import status
from rhizon.core.errors import InputError, NotReadyError, RhizonError, StateError
from rhizon.core.junit import junit_xml
from rhizon.core.log_lines import fingerprint
from rhizon.core.model.contentlist import ContentList
from rhizon.core.model.game import GameDefinition, WorldInUse
from rhizon.core.model.instance import LifeRules, ScheduledTask
from rhizon.core.model.lock import Lock
from rhizon.core.model.pack import Pack
from rhizon.core.names import RelPath
from rhizon.core.units import duration_text
from tests.app.fakes import AppCase, Recorder, read
from tests.core.wrong_documents import EXAMPLES
from tests.support import TARNHOLT

READY = "+000.3 harbour | gates open on port 21640 with 1 pieces after 0.4 s"
LOG = f"""+000.1 keelson | bringing in reedlight 2.1.0 (mod)
java.lang.IllegalStateException: no songbird
\tat reedlight.Lamps.count(Lamps.java:12)
+000.2 keelson | brought in reedlight 2.1.0
{READY}
WARN tick took 90 ms
"""
NOBODY = 2**22 + 7  # no process has such a number


class LifeCase(AppCase):
    def setUp(self) -> None:
        super().setUp()
        self.made = self.server("marsh")
        self.home = self.made.home
        self.own = self.home.own

    def life(self, state: str, **facts: Any) -> None:
        keeper = {"pid": NOBODY, "since": 1.0}
        self.own.joinpath("life.json").write_text(json.dumps({"state": state, "keeper": keeper, **facts}))

    def log(self, text: str) -> None:
        self.own.joinpath("last-run.log").write_text(text)

    def change(self, **changes: Any) -> None:
        self.home.write_instance(msgspec.structs.replace(self.home.instance(), **changes))


class States(LifeCase):
    def test_by_what_the_keeper_wrote_and_what_is_there(self) -> None:
        self.assertEqual(state_of(self.host, self.home).state, "stopped")
        for state, expected in (
            ("stopped", "stopped"),
            ("crashed", "crashed"),
            ("crash-loop", "crash-loop"),
            ("ready", "crashed"),  # its process is gone, and so is its keeper
            ("starting", "crashed"),
            ("stopping", "crashed"),
        ):
            self.life(state, changed=time.time() - 60, exit_code=3)
            now = state_of(self.host, self.home)
            self.assertEqual((now.state, now.pid, now.kept), (expected, None, False), state)
        mine = {"pid": os.getpid(), "since": _since(os.getpid())}
        for state in ("starting", "ready", "stopping"):
            self.own.joinpath("running.json").write_text(json.dumps({**mine, "token": "t"}))
            self.life(state, pid=os.getpid(), ready_seconds=0.5)
            now = state_of(self.host, self.home)
            self.assertEqual((now.state, now.pid, now.kept), (state, os.getpid(), False))
        found = status(self.host, self.home.folder)
        self.assertGreater(found.memory_mib or 0, 5)
        self.life("ready", pid=os.getpid(), keeper=mine)
        self.assertTrue(state_of(self.host, self.home).kept)
        (one,) = Overview(self.host).look()
        self.assertEqual((one.name, one.now.state), (self.home.instance().name, "ready"))
        self.life("ready", pid=os.getpid(), keeper=mine)
        started = start(self.host, self.home.folder, Recorder(), lambda: False, StartWishes())
        self.assertEqual((started.already, started.pid), (True, os.getpid()))
        self.own.joinpath("running.json").write_text(json.dumps(mine))
        self.assertEqual(state_of(self.host, self.home).why, "its first start")

    def test_hostile_records(self) -> None:
        for text in ("", "{", "[]", '{"state": 3}', '{"state": "ready", "pid": "x"}', "\0" * 100):
            self.own.joinpath("life.json").write_text(text)
            self.own.joinpath("running.json").write_text(text)
            self.assertEqual(state_of(self.host, self.home).state, "stopped", text)

    def test_spans(self) -> None:
        for seconds, text in ((0, "0 s"), (59.9, "59 s"), (60, "1 min"), (185, "3 min 5 s"), (7800, "2 h 10 min"),
                              (360_000, "4 d 4 h"), (86_400, "1 d")):  # fmt: skip
            self.assertEqual(duration_text(seconds), text)
        self.assertFalse(Life(state="x").kept)


class Logs(LifeCase):
    def test_which_lines(self) -> None:
        self.log(LOG)
        runs = self.own / "runs"
        runs.mkdir()
        runs.joinpath("2026-11-01T10-00-00.000.log.gz").write_bytes(gzip.compress(b"earlier\nno end"))
        began = time.time() - 100
        self.own.joinpath("last-run.times").write_text(f"0 {began}\n{len(LOG) - 21} {began + 95}\n")
        for wishes, expected in (
            (LogWishes(), 6),
            (LogWishes(level="error"), 1),
            (LogWishes(level="warning"), 2),
            (LogWishes(content="reedlight"), 4),
            (LogWishes(grep="ground|gates"), 1),
            (LogWishes(lines=2), 2),
            (LogWishes(run=2), 2),
            (LogWishes(since=20), 1),
            (LogWishes(since=1), 0),
            (LogWishes(since=1000), 6),
        ):
            with self.subTest(wishes):
                found = read_log(self.host, self.home.folder, wishes)
                self.assertEqual(len(found.lines), expected, found)
        self.assertEqual(read_log(self.host, self.home.folder, LogWishes(lines=2)).left_out, 4)
        remember_good_run(self.home, [fingerprint("java.lang.IllegalStateException: no songbird")])
        (known,) = read_log(self.host, self.home.folder, LogWishes(level="error")).lines
        self.assertTrue(known.known and not known.new)
        self.assertTrue(read_log(self.host, self.home.folder, LogWishes(grep="WARN")).lines[0].new)
        for wishes in (LogWishes(run=3), LogWishes(grep="(")):
            with self.assertRaises(InputError):
                read_log(self.host, self.home.folder, wishes)
        runs.joinpath("2026-11-01T10-00-00.000.log.gz").write_bytes(b"no gzip")
        with self.assertRaises(StateError):
            read_log(self.host, self.home.folder, LogWishes(run=2))

    def test_starts_that_are_kept(self) -> None:
        with self.assertRaises(StateError):
            boots(self.host, self.home.folder)
        self.log(LOG)
        first = len(LOG.split("+000.2")[0])
        self.own.joinpath("last-run.times").write_text(f"0 100.00\n{first} 102.50\n")
        (boot,) = boots(self.host, self.home.folder).boots
        self.assertEqual([(one.name, one.seconds) for one in boot.phases], [("reedlight", 2.5)])
        self.own.joinpath("last-run.times").write_text("x y\n")
        with self.assertRaises(StateError):
            boots(self.host, self.home.folder)


class Crashes(LifeCase):
    def test_what_is_written_down(self) -> None:
        told = self.folder / "told.json"
        self.change(life=LifeRules(tell=f"cat > {told}", back_up=False))
        oom = LOG + "Terminating due to java.lang.OutOfMemoryError: Java heap space\n"
        for text, code, expected, what in (
            (oom, 3, "out-of-memory", "ran out of memory"),
            (LOG, 137, "start-killed", "killed"),
            (LOG, 139, "start-crashed", "signal 11"),
            (LOG, None, "start-ended", "exit code is unknown"),
            (LOG + "java.lang.ArithmeticException: / by zero\n", 1, "start-ended", "/ by zero"),
            ("+000.1 keelson | cannot load: eelmarket 1.6.0 needs tallybook\n", 22, "content-refused", "eelmarket"),
            ("", 1, "start-ended", "exit code 1"),
        ):
            with self.subTest(expected):
                self.log(text)
                self.life("crashed", exit_code=code, began=1_790_000_000.0, ended=1_790_000_060.0, restarts=2)
                report = after_crash(self.host, self.home.folder)
                self.assertEqual((report.code, report.was_ready, report.restarts), (expected, READY in text, 2))
                self.assertIn(what, report.what)
                self.assertNotIn("before it was ready" if READY in text else "\0", report.what)
                self.assertEqual(report.up_seconds, 60.0)
        self.assertEqual(json.loads(told.read_text())["event"], "crashed")
        self.assertEqual(len(crash_reports(self.home)), 1)  # of one second
        self.own.joinpath("crashes/2020.json").write_text("{")
        self.assertEqual(len(crash_reports(self.home)), 1)

    def test_more_memory_where_that_is_allowed(self) -> None:
        self.log(LOG + "Terminating due to java.lang.OutOfMemoryError: Java heap space\n")
        self.life("crashed", exit_code=3, began=1.0, ended=2.0)
        before = self.home.instance().heap_mib
        self.change(life=LifeRules(back_up=False))
        self.assertIn("--memory", after_crash(self.host, self.home.folder).advice)
        self.assertEqual(self.home.instance().heap_mib, before)
        self.change(life=LifeRules(back_up=False, adjust_memory=True))
        with mock.patch("rhizon.app.run.crashes.job_of") as job:
            self.assertIn("MiB of heap now", after_crash(self.host, self.home.folder).advice)
        self.assertGreater(self.home.instance().heap_mib, before)
        job.return_value.write.assert_called_once_with(self.home.folder)

    def test_a_hook_that_fails_or_hangs_is_no_harm(self) -> None:
        self.log(LOG)
        self.life("crashed", exit_code=1)
        with mock.patch("rhizon.app.run.crashes.TELL_SECONDS", 0.2):
            for tell in ("exit 9", "sleep 30", "http://127.0.0.1:9/x", "no-such-program"):
                self.change(life=LifeRules(tell=tell, back_up=False))
                begun = time.monotonic()
                after_crash(self.host, self.home.folder)
                self.assertLess(time.monotonic() - begun, 15)

    def test_a_good_start_that_nobody_watched(self) -> None:
        self.log(LOG)
        after_ready(self.host, self.home.folder)
        self.assertEqual(len(seen_in_good_runs(self.home)), 1)
        self.own.joinpath("good-runs.json").write_text("{")
        self.assertEqual(seen_in_good_runs(self.home), [])


class PlayersOn(LifeCase):
    def test_by_what_the_server_answers(self) -> None:
        for line, expected in (
            ("+1 console | 2 aboard: Aud, Liv Olsen; wardens: Marit", ("Aud", "Liv Olsen")),
            ("+1 console | 0 aboard: ; wardens: Marit", ()),
            ("+1 console | 1 aboard: \x1b[31mTove; wardens: ", ("?[31mTove",)),
        ):
            answer = ConsoleAnswer(folder="x", name="marsh", typed="list", lines=("before", line), found=True)
            with mock.patch("rhizon.app.run.players.type_line", return_value=answer):
                found = players_on(self.host, self.home.folder, lambda: False)
            self.assertEqual([len(one) > 0 for one in found.online], [True] * len(expected))
            if "\x1b" not in line:
                self.assertEqual((found.online, found.most), (expected, 12))
            self.assertNotIn("\x1b", "".join(found.online))
        silent = ConsoleAnswer(folder="x", name="marsh", typed="list", lines=(), found=False)
        with (
            mock.patch("rhizon.app.run.players.type_line", return_value=silent),
            self.assertRaises(StateError) as caught,
        ):
            players_on(self.host, self.home.folder, lambda: False)
        self.assertEqual(caught.exception.code, "no-answer")
        for order, text, code in (
            ("kick", "Odd", "not-sayable"),
            ("say", " ", "bad-text"),
            ("say", "a\nb", "bad-text"),
        ):
            with self.assertRaises(RhizonError) as wrong:
                order_players(self.host, self.home.folder, order, text, lambda: False)  # type: ignore[arg-type]
            self.assertEqual(wrong.exception.code, code)
        with mock.patch("rhizon.app.run.players.type_line", return_value=silent) as typed:
            order_players(self.host, self.home.folder, "say", "high tide", lambda: False)
        self.assertEqual(typed.call_args.args[2], "say high tide")


class CarefulUpdates(LifeCase):
    """The order of its steps, with each step faked."""

    def go(self, *, nothing: bool = False, trial: str = "", starts: bool = True, ran: bool = True) -> tuple[Any, str]:
        done: list[str] = []

        def update(_host: Any, wishes: UpdateWishes, *_: Any) -> Any:
            done.append("plan" if wishes.dry_run else "update")
            return mock.Mock(spec=ProvisionResult, changes_nothing=nothing, kept=7, backup="then")

        def started(*_: Any) -> Any:
            done.append("start")
            if not starts and done.count("start") == 1:
                raise NotReadyError("start-failed", "no gate", hint="Look.")
            return mock.Mock(ready_seconds=1.5)

        def undone(_host: Any, _folder: Any, _reporter: Any, wishes: Any) -> None:
            done.append(f"undo {wishes.number} {wishes.with_world}")

        tried = mock.Mock(spec=UpdateTrial, why=trial)
        state = mock.Mock(state="ready" if ran else "stopped")
        fakes = {
            "update": update, "start": started, "undo": undone, "state_of": lambda *_: state,
            "try_update": lambda *_: done.append("try") or tried, "stop": lambda *_: done.append("stop"),
            "count_down": lambda *_: done.append("warn"),
        }  # fmt: skip
        with mock.patch.multiple("rhizon.app.machine.careful_update", **fakes):
            result = careful_update(self.host, UpdateWishes(folder=self.home.folder), Recorder(), lambda: False)
        return result, ", ".join(done)

    def test_steps(self) -> None:
        for given, outcome, steps, ready in (
            ({"nothing": True}, "nothing", "plan", None),
            ({"trial": "no gate"}, "trial-failed", "plan, try", None),
            ({"ran": False}, "updated", "plan, try, update", None),
            ({}, "updated", "plan, try, warn, stop, update, start", 1.5),
            ({"starts": False}, "undone", "plan, try, warn, stop, update, start, undo 7 True, start", 1.5),
        ):
            with self.subTest(outcome):
                result, done = self.go(**given)  # type: ignore[arg-type]
                self.assertEqual((result.outcome, done, result.ready_seconds), (outcome, steps, ready))


class Removals(LifeCase):
    def test_only_what_a_killed_removal_left(self) -> None:
        names = {
            f".marsh-removed-{NOBODY}": True,  # ours, and its command is gone
            f".mine-removed-{NOBODY}": False,  # without Rhizon's records: somebody else's
            f".busy-removed-{os.getpid()}": True,  # its command is at it
            "marsh-removed-1": True,
        }
        for name, ours in names.items():
            self.write(f"there/{name}/{'.rhizon/' if ours else ''}x", "")
        (self.folder / "there" / f".mine-removed-{NOBODY}").chmod(0o755)
        remove_left_over(self.folder / "there")
        self.assertEqual(sorted(one.name for one in (self.folder / "there").iterdir()), sorted([*names][1:]))
        remove_left_over(self.folder / "no such folder")
        away = rename_away(self.folder / "there")
        self.assertEqual(away.name, f".there-removed-{os.getpid()}")
        remove_renamed(away)
        self.assertFalse(away.exists())


class Worlds(LifeCase):
    def test_marks(self) -> None:
        rule = WorldInUse(file=RelPath("open.by"), pattern=r"pid (?P<pid>\d+)")
        game: GameDefinition = msgspec.structs.replace(
            TARNHOLT, world=msgspec.structs.replace(TARNHOLT.world, in_use=rule)
        )
        mark = self.write(f"{self.home.folder.name}/marshes/fen/open.by", "")
        later = time.time() + 100
        for text, state, stays in (
            (f"pid {os.getpid()}\n", "runs", True),
            ("who knows\n", "unknown", True),
            (f"pid {'9' * 30}\n", "unknown", True),
            (f"pid {NOBODY}\n", "gone", False),
        ):
            mark.write_text(text)
            holder = world_holder(self.home, game, "fen")
            assert holder is not None
            self.assertEqual(holder.state, state, text)
            remove_left_mark(self.home, game, "fen", Recorder())
            self.assertEqual(mark.exists(), stays)
        mark.write_text(f"pid {os.getpid()}\n")
        os.utime(mark, (1, 1))  # written before this process began: of an earlier one with its number
        holder = world_holder(self.home, game, "fen")
        assert holder is not None
        self.assertEqual(holder.state, "gone")
        self.assertIsNone(world_holder(self.home, TARNHOLT, "fen"))
        self.assertGreater(later, time.time())

    def test_the_last_backup_of_a_world(self) -> None:
        self.assertEqual(last_backup(self.host, self.home, "marshes/fen"), "")
        fen = self.write(f"{self.home.folder.name}/marshes/fen/marsh.facts", "raised-with = 4.2\n")
        first = back_up_before(self.host, require_instance_state(self.host, self.home), Recorder(), "x").when
        fen.unlink()
        back_up_before(self.host, require_instance_state(self.host, self.home), Recorder(), "x")
        self.assertEqual(last_backup(self.host, self.home, "marshes/fen"), first)
        self.assertEqual(last_backup(self.host, self.home, "marshes/other"), "")


class Content(LifeCase):
    def test_left_out_and_held(self) -> None:
        instance, lock = self.home.instance(), read(Lock, EXAMPLES["lock"])
        asked = ContentChanges(without=("reedlight",))
        kept = combined(instance, lock, asked)
        self.assertEqual((kept.without, kept.held), (("reedlight",), {}))
        instance = msgspec.structs.replace(instance, without=kept.without)
        held = combined(instance, lock, ContentChanges(held={"reedlight": "<2"}))
        self.assertEqual((held.without, held.held), ((), {"reedlight": "<2"}))
        instance = msgspec.structs.replace(instance, without=(), held={"reedlight": "<2"})
        back = combined(instance, lock, ContentChanges(taken_back=("reedlight",)))
        self.assertEqual((back.without, dict(back.held)), ((), {}))
        for wrong in (ContentChanges(without=("redlight",)), ContentChanges(taken_back=("x",))):
            with self.assertRaises(InputError):
                combined(instance, lock, wrong)

    def test_of_lists_packs_and_locks(self) -> None:
        wanted = read(ContentList, EXAMPLES["list"])
        name = next(iter(wanted.content))
        source = mock.Mock(document=wanted, label="x")
        with mock.patch("msgspec.structs.replace", side_effect=_replaced):
            out = adjusted(source, ContentChanges(without=(name,))).document
            self.assertIsInstance(out, ContentList)
            self.assertNotIn(name, out.content)
            self.assertIn(name, out.exclude)
            held = adjusted(source, ContentChanges(held={"marshlib": ">=2, <3"})).document
            self.assertEqual(held.wishes()["marshlib"].range.text, ">=2, <3")
            pack = mock.Mock(document=read(Pack, EXAMPLES["pack"]), label="x")
            one = next(iter(pack.document.content))
            self.assertNotIn(one, adjusted(pack, ContentChanges(without=(one,))).document.content)
            self.assertEqual(adjusted(pack, ContentChanges(held={one: "9.9"})).document.content[one].text, "9.9")
        for document, changes in (
            (pack.document, ContentChanges(held={one: ">=2"})),
            (wanted, ContentChanges(held={"marshlib": ">>2"})),
            (read(Lock, EXAMPLES["lock"]), ContentChanges(without=("reedlight",))),
        ):
            with self.assertRaises(InputError):
                adjusted(mock.Mock(document=document, label="x"), changes)


def _replaced(one: Any, **changes: Any) -> Any:
    """What msgspec does, also for a source that is a stand-in."""
    if isinstance(one, mock.Mock):
        return mock.Mock(**{"document": one.document, **changes})
    fields = {name: getattr(one, name) for name in one.__struct_fields__}
    return type(one)(**{**fields, **changes})


class Schedules(LifeCase):
    """With a crontab of our own in front: the tests change nobody's."""

    def setUp(self) -> None:
        super().setUp()
        self.tab = self.folder / "tab"
        program = self.write(
            "bin/crontab", f"#!/bin/sh\ncase $1 in -l) cat {self.tab} 2>/dev/null;; *) cat > {self.tab};; esac\n"
        )
        program.chmod(0o755)
        path = f"{program.parent}{os.pathsep}{os.environ['PATH']}"
        for patch in (
            mock.patch.dict(os.environ, {"PATH": path}),
            mock.patch("rhizon.adapters.systemd.Systemd.runs", new_callable=mock.PropertyMock, return_value=False),
        ):
            patch.start()
            self.addCleanup(patch.stop)

    def test_cron(self) -> None:
        self.tab.write_text("5 5 * * * somebody else's\n")
        task = ScheduledTask(what="backup", when="daily 04:30", keep="7d")
        folder = self.home.folder
        planned = add_task(self.host, folder, task, Recorder(), user=False, dry_run=True)
        self.assertEqual((planned.planned, planned.tasks), (True, ()))
        added = add_task(self.host, folder, task, Recorder(), user=False, dry_run=False)
        self.assertEqual((added.by, added.tasks[0].task), ("cron", task))
        later = msgspec.structs.replace(task, when="weekly sun 05:00")
        add_task(self.host, folder, later, Recorder(), user=False, dry_run=False)
        theirs, ours = self.tab.read_text().splitlines()
        self.assertEqual(theirs, "5 5 * * * somebody else's")
        self.assertTrue(
            ours.startswith("0 5 * * 0 ") and ours.endswith(f"backup {folder} # rhizon schedule marsh backup")
        )
        with self.assertRaises(InputError):
            add_task(
                self.host, folder, ScheduledTask(what="backup", when="often"), Recorder(), user=False, dry_run=False
            )
        done = run_task(self.host, folder, "backup")
        self.assertEqual(list_tasks(self.host, folder).tasks[0].last, done)
        with self.assertRaises(InputError):
            run_task(self.host, folder, "restart")
        with self.assertRaises(InputError):
            remove_task(self.host, folder, "restart", Recorder(), user=False, dry_run=False)
        remove_task(self.host, folder, "backup", Recorder(), user=False, dry_run=False)
        self.assertEqual(self.tab.read_text(), "5 5 * * * somebody else's\n")
        self.assertEqual(list_tasks(self.host, folder).tasks, ())

    def test_neither_systemd_nor_cron(self) -> None:
        with mock.patch.dict(os.environ, {"PATH": str(self.folder)}), self.assertRaises(StateError) as caught:
            task = ScheduledTask(what="backup", when="hourly")
            add_task(self.host, self.home.folder, task, Recorder(), user=False, dry_run=False)
        self.assertEqual(caught.exception.code, "no-timers")
        self.assertEqual(list_tasks(self.host, self.home.folder).tasks, ())


class Folders(LifeCase):
    def test_moves(self) -> None:
        target = self.folder / "there"
        for wrong in (self.home.folder / "inside", self.folder, self.folder / "no/such"):
            with self.assertRaises(InputError):
                move(self.host, self.home.folder, wrong, Recorder())
        planned = move(self.host, self.home.folder, target, Recorder(), dry_run=True)
        self.assertTrue(planned.planned and not target.exists())
        files = {one.relative_to(self.home.folder) for one in self.home.folder.rglob("*")}
        move(self.host, self.home.folder, target, Recorder())
        self.assertEqual(files - {one.relative_to(target) for one in target.rglob("*")}, set())
        disk = self.folder / "disk"
        disk.mkdir()
        if os.geteuid() or subprocess.run(["mount", "-t", "tmpfs", "-o", "size=8m", "tmpfs", str(disk)]).returncode:
            self.skipTest("this machine does not allow to mount")
        self.addCleanup(subprocess.run, ["umount", str(disk)], check=True)
        moved = move(self.host, target, disk / "marsh", Recorder())
        self.assertGreater(moved.copied, 0)
        self.assertFalse(target.exists())
        self.assertEqual(InstanceFolder(disk / "marsh").instance().name, moved.name)

    def test_builds(self) -> None:
        self.assertIsNone(newest_build(str(self.folder / "out/*.jar")))
        self.write("out/a.jar", "old")
        newer = self.write("out/b.jar", "new")
        os.utime(self.folder / "out/a.jar", (1, 1))
        self.assertEqual(newest_build(str(self.folder / "out/*.jar")), newer)
        with newer.open("a") as growing:  # one that is still being written
            writer = subprocess.Popen([sys.executable, "-c", _GROWS, str(newer)])
            self.assertEqual(newest_build(str(self.folder / "out/*.jar")), newer)
            self.assertEqual(writer.wait(20), 0)
            self.assertGreater(growing.tell(), 0)
        text = junit_xml("s<", [("good", 1.0, "", ""), ("bad", 2.0, 'no "peat"', "a\x1b<b>")])
        self.assertIn('tests="2" failures="1" time="3.000"', text)
        self.assertIn("a&lt;b&gt;", text)


_GROWS = """
import sys, time
for _ in range(5):
    with open(sys.argv[1], "a") as file: file.write("x")
    time.sleep(0.05)
"""


def _since(pid: int) -> float:
    import psutil

    return float(psutil.Process(pid).create_time())

"""What Rhizon is trusted with: secrets stay where they belong, links are not followed, records are mended."""

import json
import os
import shutil
import signal
import subprocess
import time
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from tests.support import CATALOG, PROGRAM, WORLD, Case, Done, not_fast

PASSWORD = "nettle-oyster-7731"
LINE = WORLD / "emberline.list.toml"
MODS = 'format = "rhizon-list/1"\nname = "line"\ngame = "emberline"\n[content]\ngalley = "*"\n'


class Trusted(Case):
    def line(self, *more: object, folder: str = "line", source: object = LINE) -> Done:
        """An Emberline server: its program is a script, so that it is made quickly."""
        made = self.rhizon(
            "provision", source, folder, "--catalog", CATALOG, "--set", "address=127.0.0.1", *more, "--json"
        )
        self.assertEqual(made.code, 0, made.out + made.err)
        return made

    def files_with(self, text: str) -> Iterator[Path]:
        for path in self.folder.rglob("*"):
            if path.is_file() and not path.is_symlink() and text.encode() in path.read_bytes():
                yield path.relative_to(self.folder)


@not_fast
class Secrets(Trusted):
    def test_a_password_is_where_the_server_reads_it_and_nowhere_else(self) -> None:
        source = self.write("list/pw.txt", PASSWORD + "\n")
        source.chmod(0o600)
        text = LINE.read_text() + '\npassword = { file = "pw.txt" }\n'
        self.write("list/line.list.toml", text)
        printed = [self.line("--debug", "-v", source="list/line.list.toml")]
        rows = (
            "check line", "list", "host", "ports line", "settings line", "settings line --json --debug", "inspect line",
            "update line --dry-run", "set line max_players=9 --debug -v", "undo line --list", "run line --trial -v",
            "backup line", "backup line --list", f"solve list/line.list.toml --catalog {CATALOG} --lock line.lock.json",
            "set line password=other", "inspect list/line.list.toml --json", "update line --set password=x",
        )  # fmt: skip
        printed += [self.rhizon(*row.split()) for row in rows]
        for one, row in zip(printed, ("provision", *rows), strict=True):
            self.assertNotIn(PASSWORD, one.out + one.err, row)
        revealed = self.rhizon("settings", "line", "--reveal")
        self.assertIn(PASSWORD, revealed.out)
        places = {str(path) for path in self.files_with(PASSWORD)}
        kept = ("state/", "line/.rhizon/kept/")  # of backups and for undo
        self.assertEqual({one for one in places if not one.startswith(kept)}, {"list/pw.txt", "line/emberline.xml"})
        for place in places:
            self.assertEqual((self.folder / place).stat().st_mode & 0o077, 0, place)
        (self.folder / "line/emberline.xml").chmod(0o644)
        found = self.rhizon("check", "line", "--json").result["findings"]
        self.assertIn("secret-readable", [one["code"] for one in found])

    def test_where_a_list_may_say_that_they_come_from(self) -> None:
        rows = (
            ('"in the open"', 2, "secret-in-list"),
            ('{ file = "nowhere.txt" }', 2, "no-such-file"),
            ('{ file = "empty.txt" }', 2, "secret-empty"),
            ("{ ask = true }", 2, "nobody-to-ask"),
            ("{ ask = true, generate = true }", 2, "bad-document"),
        )
        self.write("empty.txt", "")
        for source, code, word in rows:
            with self.subTest(source):
                self.write("secret.list.toml", f"{MODS}[settings]\npassword = {source}\n")
                done = self.rhizon("provision", "secret.list.toml", "new", "--catalog", CATALOG, "--json")
                self.assertEqual((done.code, done.error["code"]), (code, word), done.out)
                self.assertNotIn("in the open", done.out + done.err)
                self.assertFalse((self.folder / "new").exists())
        self.write("secret.list.toml", f"{MODS}[settings]\npassword = {{ generate = true }}\n")
        self.line(source="secret.list.toml")
        first = self.rhizon("settings", "line", "--reveal", "--json").out
        self.assertEqual(self.rhizon("update", "line", "--json").code, 0)
        self.line(source="secret.list.toml")
        self.assertEqual(self.rhizon("settings", "line", "--reveal", "--json").out, first)  # made once

    def test_encrypted_backups(self) -> None:
        from pyrage import x25519

        identity = x25519.Identity.generate()
        self.write("key.txt", str(identity)).chmod(0o600)
        self.write("other.txt", str(x25519.Identity.generate())).chmod(0o600)
        self.write("phrase", "four small grey gulls\n").chmod(0o600)
        self.write("pw", PASSWORD).chmod(0o600)
        self.line("--secret", "password=pw")
        rows = (
            (("--encrypt", str(identity.to_public())), ("--key", "key.txt"), ("--key", "other.txt"), "wrong-key"),
            (
                ("--encrypt", "passphrase", "--passphrase", "phrase"),
                ("--passphrase", "phrase"),
                ("--passphrase", "pw"),
                "wrong-key",
            ),
        )
        for number, (sealed, opens, fails, word) in enumerate(rows):
            with self.subTest(sealed[1]):
                place = ("--backups", f"kept-{number}")
                made = self.rhizon("backup", "line", *place, *sealed, "--json")
                self.assertEqual(made.code, 0, made.out + made.err)
                self.assertFalse([one for one in self.files_with("lighthouse-line") if one.parts[0] == place[1]])
                self.assertFalse([one for one in self.files_with(PASSWORD) if one.parts[0] == place[1]])
                restore = ("restore", f"again-{number}", "--of", "harbour-emberline", "--backups", place[1], "--json")
                for more, code in ((fails, word), ((), "backup-encrypted")):
                    done = self.rhizon(*restore, *more)
                    self.assertEqual((done.code, done.error["code"]), (2, code), done.out)
                    self.assertFalse((self.folder / f"again-{number}").exists())
                done = self.rhizon(*restore, *opens)
                self.assertEqual(done.code, 0, done.out + done.err)
                self.assertIn(PASSWORD, (self.folder / f"again-{number}/emberline.xml").read_text())


@not_fast
class Keys(Trusted):
    def test_a_secret_key_in_the_wrong_place_is_not_shown(self) -> None:
        from pyrage import x25519

        identity = str(x25519.Identity.generate())
        self.write("key.txt", f"# public key: age1...\n{identity}\n")
        self.line()
        self.write("config/host.toml", f'format = "rhizon-host/1"\nencrypt_to = ["{identity}"]\n')
        rows = (
            (("backup", "line"), "bad-key"),
            (("backup", "line", "--encrypt", identity), "bad-key"),
            (("backup", "line", "--encrypt", identity.lower()), "bad-key"),
            (("backup", "line", "--encrypt", "key.txt"), "bad-key"),
            (("backup", "line", "--encrypt", "age1" + "q" * 58), "bad-key"),
            (("backup", "line", "--encrypt", "age1x", "--passphrase", "key.txt"), "usage"),
            (("restore", "new", "--of", "x", "--key", identity), "no-such-backup"),
            (("restore", "line", "--key", identity), "no-such-backup"),
            (("host", "--rebuild", "nowhere"), "no-such-folder"),
            (("host", "--rebuild", "key.txt"), "no-such-folder"),
        )
        for words, code in rows:
            done = self.rhizon(*words, "--json")
            with self.subTest(words[:4]):
                self.assertEqual((done.code, done.error["code"]), (2, code), done.out)
                self.assertNotIn(identity[16:40].lower(), (done.out + done.err).lower())


@not_fast
class Folders(Trusted):
    def test_links_are_not_followed(self) -> None:
        self.line()
        outside = self.folder / "outside"
        for name, command in (("rolling", "update"), ("countries", "backup"), (".rhizon", "set")):
            with self.subTest(name):
                shutil.rmtree(outside, ignore_errors=True)
                home = self.folder / "line"
                (home / name).rename(outside)
                (home / name).symlink_to(outside)
                before = {one: one.read_bytes() for one in outside.rglob("*") if one.is_file()}
                words = (command, "line", "max_players=3") if command == "set" else (command, "line")
                self.rhizon(*words)
                self.rhizon("set", "line", "max_players=4")
                self.assertEqual(self.rhizon(*words, "--json").error["code"], "linked-folder")
                found = self.rhizon("check", "line", "--json").result["findings"]
                self.assertIn(("linked-folder", name), [(one["code"], one["subject"]) for one in found])
                after = {one: one.read_bytes() for one in outside.rglob("*") if one.is_file()}
                self.assertEqual(before, after)
                (home / name).unlink()
                outside.rename(home / name)
        self.assertEqual(self.rhizon("check", "line").code, 0)

    def test_environments(self) -> None:
        """What a service manager, a chroot or a careless shell leaves of an environment."""
        self.write("state-file", "a file")
        full = self.environment()
        rows: tuple[tuple[dict[str, str | None], str], ...] = (
            ({"HOME": None, "RHIZON_STATE": None, "XDG_STATE_HOME": str(self.folder / "xdg")}, ""),
            ({"HOME": "/dev/null/home", "RHIZON_STATE": None, "XDG_STATE_HOME": None}, "file-trouble"),
            ({"RHIZON_STATE": str(self.folder / "state-file")}, "no-state-folder"),
            ({"RHIZON_STATE": ""}, "no-state-folder"),
            ({"RHIZON_STATE": "relative"}, "no-state-folder"),
            ({"PATH": ""}, ""),
            ({"PATH": None, "LANG": "C", "LC_ALL": "C", "TERM": "dumb", "TZ": "Nowhere/Land"}, ""),
        )
        for change, expected in rows:
            with self.subTest(change):
                environment = {k: v for k, v in (full | change).items() if v is not None}
                for words in (("list", "--json"), ("check", "nothing", "--json")):
                    done = subprocess.run(
                        [*PROGRAM, *words], cwd=self.folder, env=environment, capture_output=True, text=True
                    )
                    self.assertNotIn("Traceback", done.stderr)
                    self.assertNotIn("internal", done.stdout + done.stderr)
                made = subprocess.run(
                    [*PROGRAM, "provision", str(LINE), "new", "--catalog", str(CATALOG), "--dry-run", "--json"],
                    cwd=self.folder, env=environment, capture_output=True, text=True,
                )  # fmt: skip
                told = json.loads(made.stdout)
                self.assertEqual("" if told["ok"] else told["error"]["code"], expected, made.stdout + made.stderr)


@not_fast
class Records(Trusted):
    def ledger_says(self) -> list[Any]:
        return [
            (Path(one["folder"]).name, one["ports"], one["state"])
            for one in self.rhizon("list", "--json").result["instances"]
        ]

    def test_a_ledger_that_is_lost(self) -> None:
        self.line()
        self.line(folder="second")
        before = self.ledger_says()
        ledger = self.folder / "state/ledger.sqlite3"
        copies = [one for one in (self.folder / "state").iterdir() if one.name.startswith("ledger")]
        for damage in ("gone", "rubbish", "cut", "all gone"):
            with self.subTest(damage):
                for one in copies if damage == "all gone" else (ledger,):
                    one.unlink(missing_ok=True)
                if damage == "rubbish":
                    ledger.write_bytes(b"not a database" * 1000)
                elif damage == "cut":
                    ledger.write_bytes(b"SQLite format 3\0" + b"\0" * 50)
                if damage == "all gone":
                    done = self.rhizon("host", "--rebuild", "line", "second", "--json")
                    self.assertEqual(done.code, 0, done.out + done.err)
                self.line("--dry-run", folder="third")
                self.assertEqual(self.rhizon("set", "line", "max_players=8").code, 0)
                self.assertEqual(self.ledger_says(), before)

    def test_a_server_that_is_away_keeps_its_ports_until_it_is_forgotten(self) -> None:
        ports = self.line().result["ports"]
        (self.folder / "line").rename(self.folder / "unplugged")
        self.assertEqual([row[2] for row in self.ledger_says()], ["absent"])
        other = self.line("--dry-run", folder="other").result["ports"]
        self.assertFalse(set(ports.values()) & set(other.values()))
        self.assertEqual(self.rhizon("forget", "line").code, 0)
        self.assertEqual(self.line("--dry-run", folder="other").result["ports"], ports)
        self.assertEqual(self.rhizon("forget", "line", "--json").error["code"], "no-such-server")
        self.assertEqual(self.rhizon("set", "unplugged", "max_players=5").code, 0)  # used again: known again
        self.assertEqual([row[0] for row in self.ledger_says()], ["unplugged"])

    def test_restoring_by_default(self) -> None:
        self.line()
        country = self.folder / "line/countries/lighthouse-line/survey.txt"
        first = country.read_bytes()
        self.rhizon("backup", "line")
        for _ in range(2):  # the backup that restore makes of what was there is not the newest of yours
            country.write_bytes(first + b"dug over by a mole\n")
            self.assertEqual(self.rhizon("restore", "line").code, 0)
            self.assertEqual(country.read_bytes(), first)
        for _ in range(2):  # the same once more changes nothing
            done = self.rhizon("restore", "twin", "--of", "harbour-emberline", "--json")
            self.assertEqual(done.code, 0, done.out)
        self.assertEqual((self.folder / "twin/countries/lighthouse-line/survey.txt").read_bytes(), first)
        ports = [row[1] for row in self.ledger_says()]
        self.assertFalse(set(ports[0].values()) & set(ports[1].values()))

    @unittest.skipUnless(os.geteuid() == 0, "giving files to another user needs root")
    def test_files_keep_their_owner(self) -> None:
        """A server that another user runs and that root changes."""
        self.line()
        for one in (self.folder / "line", *(self.folder / "line").rglob("*")):
            os.chown(one, 4321, 4321, follow_symlinks=False)
        self.assertEqual(self.rhizon("set", "line", "max_players=7", "name=Far").code, 0)
        self.assertEqual(self.rhizon("update", "line").code, 0)
        self.assertEqual(self.rhizon("backup", "line").code, 0)
        owners = {one.lstat().st_uid for one in (self.folder / "line").rglob("*")}
        self.assertEqual(owners, {4321})


@not_fast
class Interrupts(Trusted):
    def test_before_anything_is_changed(self) -> None:
        """At any moment of its first second a Ctrl-C ends the command with 7, or it was done before."""
        self.line()
        before = (self.folder / "line/emberline.xml").read_bytes()
        # An import that is interrupted leaves its file to Python's collector, which warns where warnings are asked for.
        as_usual = {**self.environment(), "PYTHONWARNINGS": "ignore::ResourceWarning"}
        for moment in (0.15, 0.3, 0.45, 0.6):
            with self.subTest(moment):
                run = subprocess.Popen(
                    [*PROGRAM, "set", "line", "max_players=31", "--json"], cwd=self.folder, env=as_usual,
                    stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
                )  # fmt: skip
                time.sleep(moment)
                run.send_signal(signal.SIGINT)
                out, err = run.communicate(timeout=60)
                self.assertNotIn("Traceback", err)
                after = (self.folder / "line/emberline.xml").read_bytes()
                if run.returncode == 0:
                    self.assertIn(b"31", after)
                    self.rhizon("set", "line", "max_players=12")
                else:
                    self.assertIn(run.returncode, (7, -signal.SIGINT), out + err)
                    self.assertEqual(after, before)

"""What a person does who reads a finding: the command that its remedy names, or else what its words say."""

import re
import shlex
import shutil
from collections.abc import Callable
from pathlib import Path

__all__ = ["apply"]

Finding = dict[str, str]
Run = Callable[..., tuple[int, object]]
Hand = Callable[[Path, Finding, Path], None]


def command_in(remedy: str) -> list[str]:
    """The words of the command at the end of a remedy, without ``rhizon``; none where it names none."""
    match = re.search(r"(?:^|: )rhizon (?P<words>[a-z]+ .*)$", remedy)
    return shlex.split(match["words"]) if match else []


def take_out(home: Path, found: Finding, _whole: Path) -> None:
    """Removes the file that the finding is about; of two archives that it names, the first; of something that is
    missing, what needs it."""
    named = re.findall(r"[\w.+-]+(?: \(\d\))?\.(?:jar|dll)", found["what"]) if found["code"] == "same-id" else []
    subject = home / found["subject"]
    if found["code"] == "dependency-missing":
        subject = home / "mods/own.jar"
    elif not subject.exists() and named:
        subject = home / "mods" / named[0]
    subject.unlink()


def as_utf8(home: Path, found: Finding, _whole: Path) -> None:
    file = home / found["subject"]
    data = file.read_bytes()
    coding = "utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig"
    try:
        text = data.decode(coding)
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    file.write_text(text.replace("UTF-16", "UTF-8") if coding == "utf-16" else text, "utf-8")


def rename_key(home: Path, found: Finding, _whole: Path) -> None:
    wrong = found["what"].partition(" is no setting")[0].rpartition("/")[2].lstrip("@")
    right = found["remedy"].removeprefix("Did you mean ").rstrip("?").rpartition("/")[2].lstrip("@")
    file = home / found["subject"]
    file.write_text(file.read_text("utf-8").replace(wrong, right), "utf-8")


def as_it_was(home: Path, found: Finding, whole: Path) -> None:
    """Corrects a line by hand: the file is as it was before somebody edited it."""
    shutil.copy2(whole / found["subject"], home / found["subject"])


def move_up(home: Path, found: Finding, _whole: Path) -> None:
    file = home / found["subject"]
    file.rename(file.parent.parent / file.name)


def rename_folder(home: Path, found: Finding, _whole: Path) -> None:
    right = home / found["remedy"].removeprefix("Rename it to ").rstrip(".")
    for one in (home / found["subject"]).iterdir():
        one.rename(right / one.name)
    (home / found["subject"]).rmdir()


def chmod(home: Path, found: Finding, _whole: Path) -> None:
    (home / found["subject"]).chmod(0o644)


def name_less(home: Path, found: Finding, _whole: Path) -> None:
    file = home / found["subject"]
    wrong = found["what"].removeprefix("it names ").partition(",")[0]
    file.write_text(file.read_text("utf-8").replace(f'"{wrong}", ', ""), "utf-8")


def older_world(home: Path, found: Finding, whole: Path) -> None:
    shutil.rmtree(home / found["subject"])
    shutil.copytree(whole / found["subject"], home / found["subject"])


BY_HAND: dict[str, Hand] = {
    "settings-encoding": as_utf8,
    "setting-unknown": rename_key,
    "setting-repeated": as_it_was,
    "native-file-broken": as_it_was,
    "settings-read-only": chmod,
    "archives-below": move_up,
    "folder-case": rename_folder,
    "enabled-missing": name_less,
    "world-newer": older_world,
    "world-incomplete": older_world,
}


def apply(home: Path, found: Finding, whole: Path, run: Run) -> str:
    """Carries out a remedy; the command that it was, or "by hand"."""
    if words := command_in(found["remedy"]):
        code, answer = run(*words)
        return f"rhizon {words[0]}" if code == 0 else f"rhizon {words[0]} ends with {code}: {answer}"
    BY_HAND.get(found["code"], take_out)(home, found, whole)
    return "by hand"

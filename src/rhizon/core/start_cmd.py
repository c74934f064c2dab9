"""A start script for cmd.exe that passes every argument on unchanged, with nothing but cmd itself.

cmd replaces ``%NAME%`` before it looks for ``&``, ``|`` or quotes, so a value is safe there only between quotes, and a
quote in it would end them. Hence two forms: a line of the file has each quote replaced by a control character, and
a finished word has each quote doubled; both can stand between quotes whatever else they hold. Delayed expansion is off,
so that ``!`` is a character like others.

The program splits its command line by the rules of the Microsoft C runtime ("Parsing C Command-Line Arguments"): spaces
between quotes belong to a word, ``\\"`` is a quote, and backslashes count double before one. For cmd ``\\"`` opens or
closes quotes all the same. So after an odd number of such quotes the two disagree: what cmd has between quotes the
program has not. There (``FLIPPED``) a word is written without quotes of its own, and only its spaces are between two.
Two quotes never follow each other inside a word: C runtimes differ in what they make of that.
"""

from collections.abc import Mapping, Sequence

__all__ = ["ARGUMENTS", "RUNTIME", "cmd_script"]

RUNTIME = "\0runtime"  # in a command these two stand for what is only known when it runs
ARGUMENTS = "\0arguments"

# Characters that no text has. A backslash that counts double, a quote, a part of a word that may be empty; a quote that
# ends or begins the state in which cmd and the program agree.
_MARKS = {"<B>": "\x01", "<Q>": "\x02", "<F>": "\x03", "<E>": "\x04", "<S>": "\x05"}

# Sets WORDS to all words so far, each quote doubled. :line takes LINE, a line of the file, :word takes TEXT.
_SPLIT = """\
:line
set "TEXT=%LINE:"=<Q>%"
:trim
if not "%TEXT:~-1%"==" " if not "%TEXT:~-1%"=="<TAB>" goto trimmed
set "TEXT=%TEXT:~0,-1%"
goto trim
:trimmed
set "NAME="
set "VALUE="
for /f "eol=# tokens=1*" %%b in ("%TEXT%") do (
  set "NAME=%%b"
  set "VALUE=%%c"
)
if not defined NAME exit /b 0
if not defined VALUE goto word
if not "%NAME:~0,1%"=="-" if not "%NAME:~0,1%"=="+" if not "%NAME:~0,1%"=="/" goto word
set "JOINED="
for /f "eol=# tokens=1* delims==" %%b in ("x%NAME%x") do set "JOINED=%%c"
if defined JOINED goto word
set "TEXT=%NAME%"
call :word
set "TEXT=%VALUE%"
"""
# A word before a name: the rest of the line is a name, and what is behind it the value.
_PAIR = """\
:pair
set "TEXT=%NAME%"
call :word
set "NAME="
set "REST="
for /f "eol=# tokens=1*" %%b in ("%VALUE%") do (
  set "NAME=%%b"
  set "REST=%%c"
)
set "VALUE=%REST%"
set "TEXT=%NAME%"
if not defined VALUE goto word
call :word
set "TEXT=%VALUE%"
"""
_KNOWN = "if not defined VALUE goto word\n"
_WORD = """\
:word
set "LEFT=<F>%TEXT:<Q>=<Q><F>%"
set "WORD= "
if not defined FLIPPED set "WORD= \"""
:part
set "PART="
set "REST="
for /f "eol=<Q> tokens=1* delims=<Q>" %%b in ("%LEFT%") do (
  set "PART=%%b"
  set "REST=%%c"
)
if defined FLIPPED set "PART=%PART: =\"" \""%"
if defined FLIPPED set "PART=%PART:<TAB>=\""<TAB>\""%"
if defined FLIPPED set "PART=%PART:\"\"\""=%"
set "WORD=%WORD%%PART:<F>=%"
if not defined REST goto last
set "LEFT=%REST%"
if defined FLIPPED goto begin
set "WORD=%WORD%<E>"
set "FLIPPED=1"
goto part
:begin
set "WORD=%WORD%<S>"
set "FLIPPED="
goto part
:last
if not defined FLIPPED set "WORD=%WORD%\"""
set "WORD=%WORD:\\\""=<B>\""%"
set "WORD=%WORD:\\<E>=<B><E>%"
set "WORD=%WORD:\\<S>=<B><S>%"
:slashes
set "BEFORE=%WORD%"
set "WORD=%WORD:\\<B>=<B><B>%"
if not "%WORD%"=="%BEFORE%" goto slashes
set "WORD=%WORD:<B>=\\\\%"
set "WORD=%WORD:<E>=\""\\\""%"
set "WORDS=%WORDS%%WORD:<S>=\\\"\"\""%"
exit /b 0
"""


def cmd_script(
    *,
    remarks: Sequence[str],
    variables: Mapping[str, str],
    command: Sequence[str],
    recorded: str,
    usual: str,
    arguments_file: str | None,
    pair_words: Sequence[str] = (),
    environment_file: str | None = None,
) -> bytes:
    """The script, in UTF-8 with CRLF line ends. In ``command``, :data:`RUNTIME` stands for the runtime's program
    (``recorded`` where it still is, else ``usual``), :data:`ARGUMENTS` for what the file of arguments holds. It ends
    with the program's exit code."""
    lines = ["@echo off", "setlocal DisableDelayedExpansion", *(f"rem {one}" for one in remarks), 'cd /d "%~dp0"']
    lines += ['for /f "tokens=2 delims=:." %%a in (\'chcp\') do set "PAGE=%%a"', "chcp 65001 >nul"]
    lines += [f'set "{name}={_literal(value).replace("{PATH}", "%PATH%")}"' for name, value in variables.items()]
    if environment_file is not None:
        lines += [
            f"rem one variable per line in {environment_file}; # begins a comment",
            f'for /f "usebackq eol=# tokens=1* delims==" %%a in ("{_literal(environment_file)}") do set "%%a=%%b"',
        ]
    if RUNTIME in command:
        lines += [
            f'set "RUNTIME={_literal(recorded)}"',
            'if defined RHIZON_RUNTIME set "RUNTIME=%RHIZON_RUNTIME%"',
            f'if not exist "%RUNTIME%" set "RUNTIME={usual}"',
        ]
    program, *words = command
    line = '"%RUNTIME%"' if program == RUNTIME else f'"{_literal(program)}"'
    plain = ARGUMENTS not in words and not any('"' in one for one in words)
    if plain:
        line = " ".join([line, *(_quoted(one) for one in words)])
    else:
        lines += ['set "WORDS="', 'set "FLIPPED="']
        for one in words:
            lines += _from_file(arguments_file or "") if one == ARGUMENTS else _one_word(one)
        line += '%WORDS:""="%'
    lines += [line, 'set "CODE=%ERRORLEVEL%"', "chcp%PAGE% >nul", "exit /b %CODE%", ""]
    text = "\n".join(lines)
    if not plain:
        text += "\n" + _split(pair_words) * (ARGUMENTS in words) + _WORD
    for name, character in (_MARKS | {"<TAB>": "\t"}).items():
        text = text.replace(name, character)
    return text.replace("\n", "\r\n").encode()


def _from_file(arguments_file: str) -> list[str]:
    """Reads the file: one argument a line, ``#`` begins a comment."""
    return [
        f"rem one argument per line in {arguments_file}; # begins a comment",
        f'for /f "usebackq eol=# tokens=*" %%a in ("{_literal(arguments_file)}") do (',
        '  set "LINE=%%a"',
        "  call :line",
        ")",
    ]


def _split(pair_words: Sequence[str]) -> str:
    """The subroutine that takes a line of the file apart. One that ends in a word falls through to it."""
    if not pair_words:
        return _SPLIT
    known = "".join(f'if "%NAME%"=="{_literal(word)}" goto pair\n' for word in pair_words)
    return _SPLIT.replace(_KNOWN, _KNOWN + known) + "goto word\n" + _PAIR


def _one_word(word: str) -> list[str]:
    if not word:
        return ['set "WORDS=%WORDS% """""']
    return [f'set "TEXT={_literal(word).replace(chr(34), "<Q>")}"', "call :word"]


def _quoted(word: str) -> str:
    """A word without a quote, between quotes: backslashes at its end count double there."""
    slashes = len(word) - len(word.rstrip("\\"))
    return f'"{_literal(word)}{slashes * chr(92)}"'


def _literal(text: str) -> str:
    return text.replace("%", "%%")

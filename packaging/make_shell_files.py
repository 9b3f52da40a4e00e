"""Make what a shell reads of the command line itself: the manual page, and the completion of bash, zsh and fish."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import typer
from typer.core import TyperCommand, TyperGroup, TyperOption

from eskret import __version__
from eskret.cli import app

SHARE = Path(__file__).parent / "share"
METAINFO = SHARE / "metainfo" / "org.eskret.Eskret.metainfo.xml"
COMPLETIONS = {
    "bash": "bash-completion/completions/eskret",
    "zsh": "zsh/site-functions/_eskret",
    "fish": "fish/vendor_completions.d/eskret.fish",
}
MANUAL = "man/man1/eskret.1"
_SEE = """\
.SH FILES
.TP
.I *.toml
Workflow files, which begin with
.BR "eskret = 1" .
.TP
.I ~/.local/share/eskret
What was allowed, and the account of earlier runs and pushes, which undo and recover need.
.TP
.I ~/.cache/eskret
Results that are kept; can be thrown away at any time.
.TP
.I ~/.local/state/eskret
The log.
.SH ENVIRONMENT
.TP
.BR XDG_DATA_HOME ", " XDG_CACHE_HOME ", " XDG_STATE_HOME
Where these folders are, if not there.
"""


def escaped(text: str) -> str:
    """A text as roff has it: signs that mean something there stand for themselves."""
    out = text.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join(f"\\&{line}" if line[:1] in (".", "'") else line for line in out.splitlines())


def _paragraphs(text: str) -> str:
    return "\n.PP\n".join(escaped(re.sub(r"\s*\n\s*", " ", p.strip())) for p in re.split(r"\n\s*\n", text.strip().replace("\b", "")))


def _called(command: TyperCommand | TyperGroup, path: str) -> str:
    """What is written in a command: its name, its arguments."""
    words = [f"\\fB{escaped(path)}\\fR"]
    if any(isinstance(p, TyperOption) for p in command.params):
        words.append("[\\fIoptions\\fR]")
    for one in command.params:
        if not isinstance(one, TyperOption):
            name = (one.metavar or one.name or "").upper().strip("[]")
            words.append(f"\\fI{escaped(name)}\\fR" if one.required else f"[\\fI{escaped(name)}\\fR]")
    return " ".join(words)


def _options(command: TyperCommand | TyperGroup) -> list[str]:
    out = []
    for one in command.params:
        if isinstance(one, TyperOption) and one.help and not one.hidden:
            names = ", ".join(f"\\fB{escaped(n)}\\fR" for n in [*one.opts, *one.secondary_opts])
            value = "" if one.is_flag else f" \\fI{escaped((one.metavar or one.name or '').rstrip('_').upper())}\\fR"
            out.append(f".TP\n{names}{value}\n{_paragraphs(one.help)}")
    return out


def _commands(group: TyperGroup, path: str) -> list[tuple[str, TyperCommand | TyperGroup]]:
    out: list[tuple[str, TyperCommand | TyperGroup]] = []
    for name, command in group.commands.items():
        if command.hidden:
            continue
        out.append((f"{path} {name}", command))
        if isinstance(command, TyperGroup):
            out += _commands(command, f"{path} {name}")
    return out


def manual() -> str:
    """The manual page, in the man macros."""
    whole = typer.main.get_command(app)
    assert isinstance(whole, TyperGroup)
    released = re.search(r'<release [^>]*date="([^"]+)"', METAINFO.read_text())
    assert released is not None
    summary = escaped((whole.help or "").rstrip("."))
    lines = [f'.TH ESKRET 1 "{released[1]}" "Eskret {__version__}" "User Commands"', ".SH NAME", f"eskret \\- {summary}"]
    lines += [".SH SYNOPSIS", "\\fBeskret\\fR \\fIcommand\\fR [\\fIoptions\\fR]", ".SH OPTIONS", *_options(whole), ".SH COMMANDS"]
    for path, command in _commands(whole, "eskret"):
        lines += [f".SS {_called(command, path)}", _paragraphs(command.help or command.short_help or ""), *_options(command)]
    lines += [".SH EXIT STATUS", _paragraphs(str(whole.epilog or "")), _SEE.rstrip()]
    return "\n".join(lines) + "\n"


def completion(shell: str) -> str:
    """The script that completes commands in a shell."""
    asked = {**os.environ, "_ESKRET_COMPLETE": f"source_{shell}"}
    found = subprocess.run(
        [str(Path(sys.executable).with_name("eskret"))], env=asked, capture_output=True, text=True, check=True
    ).stdout.strip()
    if "_ESKRET_COMPLETE" not in found:
        raise RuntimeError(f"no completion for {shell}: {found}")
    # loaded by its name, the file is the body of the function that completes
    return found + ('\n\n_eskret_completion "$@"\n' if shell == "zsh" else "\n")


def made() -> dict[str, str]:
    """All files, by their place below ``share``."""
    return {MANUAL: manual(), **{place: completion(shell) for shell, place in COMPLETIONS.items()}}


if __name__ == "__main__":
    for place, text in made().items():
        (SHARE / place).parent.mkdir(parents=True, exist_ok=True)
        (SHARE / place).write_text(text)

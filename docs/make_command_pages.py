"""Write what follows from the command line's declaration: its page, and the manual pages.

Usage: python docs/make_command_pages.py      (a test compares the files with the declaration)
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from typer.main import get_command

from rilievo._version import __version__
from rilievo.cli import app

ROOT = Path(__file__).parents[1]
STATUS = (
    ("0", "done"),
    ("1", "some samples failed, or are not the same as before"),
    ("2", "wrong usage; nothing was done"),
    ("3", "rows of a table and files do not fit together"),
    ("4", "all samples failed"),
    ("130", "stopped with Ctrl+C; what was measured is kept"),
)
_KINDS = {int: "NUMBER", float: "NUMBER", Path: "PATH"}


@dataclass(frozen=True)
class Page:
    """One command. words : as it is called. arguments, options : how it is written → meaning."""

    words: str
    help: str
    usage: str
    arguments: tuple[tuple[str, str], ...]
    options: tuple[tuple[str, str], ...]

    @property
    def file_name(self) -> str:
        """Of its manual page."""
        return f"{self.words.replace(' ', '-')}.1"


def pages() -> list[Page]:
    """Return the commands in the order of their names."""
    return sorted(_pages(get_command(app), "rilievo"), key=lambda page: page.words)


def _pages(command: Any, words: str) -> Iterator[Page]:
    subcommands = getattr(command, "commands", {})
    for name, sub in subcommands.items():
        yield from _pages(sub, f"{words} {name}")
    if subcommands and words != "rilievo":
        return
    arguments = [p for p in command.params if p.param_type_name == "argument"]
    options = [p for p in command.params if p.param_type_name == "option" and not p.hidden]
    written = " ".join(str(one.metavar or one.name.upper()) for one in arguments)
    usage = f"{words} [OPTIONS]{f' {written}' if written else ''}"
    yield Page(
        words,
        " ".join((command.help or "").split()) if words != "rilievo" else str(app.info.help),
        usage if words != "rilievo" else "rilievo [STUDY | IMAGE…]\nrilievo COMMAND …",
        tuple((str(p.metavar or p.name.upper()), p.help or "") for p in arguments),
        tuple((_option(p), _meaning(p)) for p in options),
    )


def _option(parameter: Any) -> str:
    names = ", ".join(sorted(parameter.opts, key=len, reverse=True))
    if parameter.is_flag:
        return names
    return (
        f"{names} {parameter.metavar or _KINDS.get(parameter.type_descriptor.annotation, 'TEXT')}"
    )


def _meaning(parameter: Any) -> str:
    text = parameter.help or ""
    default = parameter.default
    if not parameter.is_flag and default not in (None, "", ()) and not parameter.required:
        text += f" Default: {default}."
    return text + (" Needed." if parameter.required else "")


def command_page() -> str:
    """The page of the documents."""
    lines = [
        "<!-- Made by docs/make_command_pages.py; do not edit. -->",
        "",
        "# Command line",
        "",
        "`rilievo` alone opens the window. Words that are no command are files to open.",
        "Options may stand before or behind the files.",
        "",
        "## Exit status",
        "",
        "| status | meaning |",
        "|---|---|",
        *(f"| {number} | {meaning} |" for number, meaning in STATUS),
        "",
    ]
    for page in pages():
        if page.words == "rilievo":
            continue
        lines += [f"## {page.words}", "", page.help, "", "```text", page.usage, "```", ""]
        rows = (*page.arguments, *page.options)
        if rows:
            lines += ["| argument or option | meaning |", "|---|---|"]
            lines += [f"| `{_cell(one)}` | {_cell(text)} |" for one, text in rows]
            lines.append("")
    return "\n".join(lines)


def _cell(text: str) -> str:
    return text.replace("|", "\\|")


def manual_page(page: Page) -> str:
    """The manual page of a command, in the man macros of roff."""
    title = page.words.replace(" ", "-")
    summary = page.help.split(". ")[0].rstrip(".")
    lines = [
        '.\\" Made by docs/make_command_pages.py; do not edit.',
        f'.TH {title.upper()} 1 "" "Rilievo {__version__}" "Rilievo"',
        ".SH NAME",
        f"{_roff(title)} \\- {_roff(summary)}",
        ".SH SYNOPSIS",
        ".nf",
        *(f".B {_roff(line)}" for line in page.usage.splitlines()),
        ".fi",
        ".SH DESCRIPTION",
        _roff(page.help),
    ]
    if page.words == "rilievo":
        lines += [
            ".PP",
            "Without a command the window opens, with a study or images.",
            ".SH COMMANDS",
        ]
        for other in pages():
            if other.words != "rilievo":
                lines += [".TP", f".B {_roff(other.words)}", _roff(other.help.split(". ")[0])]
    for heading, rows in (("ARGUMENTS", page.arguments), ("OPTIONS", page.options)):
        if rows:
            lines.append(f".SH {heading}")
            for one, text in rows:
                lines += [".TP", f".B {_roff(one)}", _roff(text) or "\\&"]
    lines.append(".SH EXIT STATUS")
    for number, meaning in STATUS:
        lines += [".TP", f".B {number}", _roff(meaning)]
    others = [one.words for one in pages() if one.words != page.words]
    lines += [
        ".SH SEE ALSO",
        *(f".BR {_roff(one.replace(' ', '-'))} (1)" for one in others),
    ]
    return "\n".join(lines) + "\n"


def _roff(text: str) -> str:
    """Text that roff prints as it stands."""
    safe = text.replace("\\", "\\e").replace("-", "\\-").replace("…", "...")
    return f"\\&{safe}" if safe[:1] in ".'" else safe


def files() -> dict[Path, str]:
    """Return all that is written, path → text."""
    return {
        ROOT / "docs" / "command-line.md": command_page(),
        **{ROOT / "share" / "man" / "man1" / one.file_name: manual_page(one) for one in pages()},
    }


def main() -> None:
    """Write the files."""
    for path, text in files().items():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()

"""The method as a file."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from pathlib import Path

from rilievo.core.errors import RilievoError
from rilievo.core.method.method import Method
from rilievo.core.method.step_edits import taken_over
from rilievo.core.study.outside_files import files_of_method, files_of_study, outside
from rilievo.core.study.preregistration import Preregistration
from rilievo.ui.commands.command_context import CommandContext

_METHODS = "Methods (*.json)"


class MethodFileCommands:
    """Loads and saves methods."""

    def __init__(self, context: CommandContext) -> None:
        self._context = context

    def ask_method(self) -> None:
        """Choose a method file."""
        path = self._context.dialogs.ask_file("Load method", _METHODS)
        if path is not None:
            self.load_method(path)

    def load_method(self, path: Path) -> None:
        """Take the method from a file, undoable; what is known of samples stays where it fits."""
        session = self._context.session
        try:
            read = Method.load(path)
            method = taken_over(read, session.state.method)
        except RilievoError as exc:
            self._context.warn_of(exc)
            return
        names = [entry.name for entry in session.state.samples]
        found = outside(files_of_method(read, names), [path.parent], files_of_study(session.state))
        if found and not self._context.dialogs.ask_outside(path.name, found):
            return
        session.change_method(f"Load method {path.name}", method)

    def agree(self) -> None:
        """Fix the method and the comparison as they are now, with date and checksum."""
        session = self._context.session
        date = datetime.now().astimezone().isoformat(timespec="seconds")
        preregistration = Preregistration(date, session.state.method, session.state.question)
        before = session.state.preregistration
        session.change("Fix the method", replace(session.state, preregistration=preregistration))
        again = f" It was fixed on {before.date} before." if before.is_made else ""
        self._context.notices.tell(
            f"Fixed with the checksum {preregistration.checksum}. What is changed from now on is "
            f"told in the report, with its effect.{again}"
        )

    def ask_save_method(self) -> None:
        """Choose a name for the method."""
        path = self._context.dialogs.ask_name("Save method", "method.json", _METHODS)
        if path is not None:
            self.save_method(path)

    def save_method(self, path: Path) -> None:
        """Write the method file."""
        method = self._context.session.state.method
        self._context.write(path, lambda: method.save(path))

"""The actions of the menus Window and Help."""

from __future__ import annotations

from functools import partial

from rilievo.ui.commands.action import Action, Commands, When, is_chosen
from rilievo.ui.commands.arrangement import ArrangementCommands, Part, ThemeChoice
from rilievo.ui.theme.choice import TEXT_PERCENTS
from rilievo.ui.widgets.card import keep_one_open, one_card_open

_PARTS: tuple[tuple[Part, str, str, str], ...] = (
    ("cards", "Cards", "the cards of the stage", "F7"),
    ("ridges", "Ridges", "the histograms of all samples", "F8"),
    ("drawer", "Drawer", "what lies below the picture", "F9"),
)
_THEMES: tuple[tuple[ThemeChoice, str, str], ...] = (
    ("desktop", "Theme of the desktop", "Light or dark as the desktop has it"),
    ("paper", "Paper", "Light, for daylight"),
    ("night", "Night", "Dark, for dark rooms"),
)


def window_actions(c: Commands, _when: When) -> tuple[Action, ...]:
    """What is folded away, and how the window looks."""
    arranged, look = c.arrangement.arrangement, c.arrangement.appearance
    return (
        *(
            Action(f"window.{part}", title, "Window", f"Fold away or bring back {what}",
                   partial(c.arrangement.toggle_fold, part), key,
                   checked=partial(_is_open, c.arrangement, part))
            for part, title, what, key in _PARTS
        ),
        Action("window.alone", "Picture alone", "Window",
               "Fold everything else away, or bring it back",
               c.arrangement.toggle_alone, "F11", checked=lambda: arranged.picture_alone),
        Action("window.ridges_below", "Ridges below the picture", "Window",
               "Over its whole width, in place of below the cards",
               c.arrangement.toggle_ridges, "Shift+F8", checked=lambda: arranged.ridges_below),
        Action("window.one_card", "One card at a time", "Window",
               "Opening a card folds the others of its stage",
               lambda: keep_one_open(not one_card_open()), checked=one_card_open),
        *(
            Action(f"window.{key}", title, "Window", tip,
                   partial(c.arrangement.choose_theme, key), "", gap=k == 0,
                   checked=partial(is_chosen, look, "chosen", key))
            for k, (key, title, tip) in enumerate(_THEMES)
        ),
        *(
            Action(f"window.text_{percent}", f"Text {percent} %", "Window",
                   "The size of all texts of the window",
                   partial(c.arrangement.choose_text, percent), "", gap=k == 0,
                   checked=partial(is_chosen, look, "text_percent", percent))
            for k, percent in enumerate(TEXT_PERCENTS)
        ),
    )  # fmt: skip


def help_actions(c: Commands, _when: When) -> tuple[Action, ...]:
    """About the program."""
    return (
        Action("help.guide", "Guide", "Help", "The guide, at the present stage",
               c.help.open_guide, "F1"),
        Action("help.walk", "First measurement", "Help",
               "Step by step, beside the controls", c.help.begin_walk),
        Action("help.what", "What is this?", "Help",
               "Then click a quantity, a step, a check or any other part", c.help.ask_what,
               "Shift+F1"),
        Action("help.keys", "Keys", "Help", "All keys in one list", c.help.open_keys, "Ctrl+F1"),
        Action("help.problem", "Report a problem", "Help",
               "Versions and the log as a text to copy; nothing is sent", c.help.open_problem,
               "", gap=True),
        Action("help.about", "About Rilievo", "Help", "Versions, licences, where the log is",
               c.help.open_about),
    )  # fmt: skip


def _is_open(commands: ArrangementCommands, part: Part) -> bool:
    return not commands.arrangement.is_folded(part)

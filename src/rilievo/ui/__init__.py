"""The window: shows the study and lets it be changed; holds no computation of its own.

The packages, each of which knows only those above it:

theme     colour roles, typeface, icons, style sheet
session   the study's state with undo, what is in focus, measurements, view settings; no widgets
compute   what is computed, when, in which thread; said by signals; no widgets
widgets   general ones: cards, forms and fields, small plots, markers, search lists
help      the guide in its window, keys, versions, reporting a problem, the log
canvas    the picture: tools, overlays, key, rulers, navigator, sheet, split line
panels    the Ridges and the drawer's tabs; what covers the picture
stages    look, correct, outline, measure, compare: each folder has the panel and its cards
commands  what actions do, grouped by stage; all actions are listed in `commands.actions`
shell     application, window, layout, menus, status line, and the wiring of signals

Where things are: what a drag does is in `commands.marker_drag`; `session.drag_gesture` makes one
entry to undo of it and `compute.drag_preview` shows it meanwhile. A study is saved by
`commands.study`, a batch runs in `compute.batch_runner`. Thresholds, tables, study files: see the
map of `rilievo.core`.
"""

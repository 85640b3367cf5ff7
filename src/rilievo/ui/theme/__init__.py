"""How the window looks: colour roles, type, icons, style sheet."""

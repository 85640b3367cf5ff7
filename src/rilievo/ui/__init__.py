"""The window: shows the study and lets it be changed; holds no computation."""

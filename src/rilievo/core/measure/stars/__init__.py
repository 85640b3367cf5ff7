"""Stars: found, measured, mapped over the field, followed through a series."""

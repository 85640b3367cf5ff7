"""Clean-up of found regions: one module a family, behind one registry."""

from rilievo.core.cleaning.cleaner import (
    CLEANERS,
    CleanContext,
    Cleaner,
    CleanerParameters,
    cleaner,
)

__all__ = ["CLEANERS", "CleanContext", "Cleaner", "CleanerParameters", "cleaner"]

CLEANERS.discover()

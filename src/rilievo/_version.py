"""The version, kept alone so that the build reads it without importing the package."""

__version__ = "0.1.0"

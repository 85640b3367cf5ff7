"""The version, kept alone so that the build reads it without importing the package."""

__version__ = "1.0.0rc1"
